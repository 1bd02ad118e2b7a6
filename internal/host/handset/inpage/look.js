// What is on the screen, read in a world of its own beside the page's scripts: nothing that
// the page does to its globals changes what is found here. See screen.Node for the words.
(() => {
  if (globalThis.yamatoLook) return;
  const presentational = new Set(['button', 'checkbox', 'img', 'menuitemcheckbox', 'menuitemradio', 'meter', 'option',
    'progressbar', 'radio', 'scrollbar', 'separator', 'slider', 'switch', 'tab']);
  const plain = new Set(['', 'generic', 'none', 'presentation', 'StaticText', 'InlineTextBox', 'LabelText', 'paragraph',
    'strong', 'emphasis', 'code', 'subscript', 'superscript', 'time', 'mark', 'insertion', 'deletion', 'RootWebArea',
    'Abbr', 'LineBreak', 'term', 'caption', 'sectionheader', 'sectionfooter']);
  const roles = new Set(['option', 'tab', 'listitem', 'menuitem', 'row', 'cell', 'gridcell', 'treeitem', 'columnheader',
    'rowheader', 'radio', 'menuitemradio', 'menuitemcheckbox']); // those that need another around them (WAI-ARIA 1.2, 5.2.6)
  const renamed = { image: 'img', textField: 'textbox', 'graphics-document': 'img', 'graphics-object': 'img',
    'graphics-symbol': 'img', comboBoxSelect: 'combobox' };
  const longest = 2000; // characters of one text
  const most = 20000; // elements
  const large = 15000; // elements from which on the browser's own tree is too slow to be asked for
  let kept = new WeakMap(); // element to what of it changes with it alone
  let referring = false; // names may come from elsewhere in the document
  let asks = false; // the browser may be asked for roles and names
  let wants = false; // and should be, by what was found
  let sent = [], revision = 0, wasBusy = false; // sent is what was told, an element a line
  const watched = new WeakSet();
  let watchedRoots = 0;
  const roots = new Set(); // documents and shadow roots that are watched
  const moment = String(performance.timeOrigin);

  const tell = () => { if (globalThis.yamatoChanged) globalThis.yamatoChanged(''); };
  let told = false;
  let dirty = true; // something has happened since the last look
  let signed = ''; // what fields held at the last look
  function changed() {
    dirty = true;
    if (told) return;
    told = true;
    setTimeout(() => { told = false; tell(); }, 8);
  }

  // forget has an element, and what it lies in, be read anew.
  function forget(el) {
    for (let e = el; e; e = e.parentNode || e.host) kept.delete(e);
  }
  const forgetAll = () => { kept = new WeakMap(); };
  function mutated(list) {
    for (const m of list) {
      // What else an attribute changes depends on the page's style.
      if (m.type === 'attributes' && m.attributeName !== 'value' || referring) { forgetAll(); break; }
      forget(m.target.nodeType === 1 ? m.target : m.target.parentNode || m.target.host);
      for (const n of m.addedNodes) if (n.nextElementSibling || n.previousElementSibling) { if (styled) forgetAll(); break; }
    }
    changed();
  }
  // styled tells whether the page's style may depend on what stands beside an element: it is not
  // looked for, and taken to be so where there is little.
  let styled = true;
  const hands = new Set(['focus', 'blur', 'input', 'change', 'pointerdown', 'pointerup']);
  const moved = (e) => {
    if (hands.has(e.type) && !stateful()) forget(e.target && e.target.nodeType === 1 ? e.target : null);
    else if (e.type !== 'scroll' && e.type !== 'load') forgetAll();
    changed();
  };

  // stateful tells whether the page's style may depend on what hands do: on what is touched, has
  // the focus, or is checked. It is looked for anew where there are other rules.
  let rules = -1, depends = false;
  function stateful() {
    if (watchedRoots > 1) return true; // frames and shadow roots have rules of their own
    try {
      const sheets = [...document.styleSheets, ...(document.adoptedStyleSheets || [])];
      let n = sheets.length;
      for (const s of sheets) n += s.cssRules.length;
      if (n === rules) return depends;
      rules = n;
      depends = sheets.some((s) => [...s.cssRules].some((r) => /:(active|focus|hover|checked|indeterminate|target|valid|invalid|user-|in-range|out-of-range|placeholder-shown|has|empty|open|popover|state)/.test(r.cssText)));
    } catch (_) { return true; } // those of a sheet from elsewhere cannot be read
    return depends;
  }
  function watch(root) {
    if (watched.has(root)) return;
    watched.add(root);
    watchedRoots++;
    if (root.nodeType === 9) roots.add(root);
    new MutationObserver(mutated).observe(root, { subtree: true, childList: true, attributes: true, characterData: true });
    for (const kind of ['scroll', 'focus', 'blur', 'input', 'change', 'load', 'toggle', 'transitionend', 'animationend',
      'animationstart', 'transitionstart', 'resize', 'pointerdown', 'pointerup']) {
      (root.defaultView || root).addEventListener(kind, moved, { capture: true, passive: true });
    }
  }

  const fold = (s) => s.replace(/\s+/g, ' ').trim();
  const cut = (s) => (s.length > longest ? s.slice(0, longest) + '…' : s);

  const byTag = { A: 'link', BUTTON: 'button', H1: 'heading', H2: 'heading', H3: 'heading', H4: 'heading', H5: 'heading',
    H6: 'heading', UL: 'list', OL: 'list', TEXTAREA: 'textbox', CANVAS: 'img', IMG: 'img', NAV: 'navigation', MAIN: 'main',
    DIALOG: 'dialog', HR: 'separator', PROGRESS: 'progressbar', FORM: '', P: '', DIV: '', SPAN: '', BODY: '', HTML: '', LABEL: '',
    B: '', I: '', EM: '', STRONG: '', BR: '', SMALL: '', CODE: '' };
  const inputs = { checkbox: 'checkbox', radio: 'radio', range: 'slider', button: 'button', submit: 'button', reset: 'button',
    number: 'spinbutton', search: 'searchbox', image: 'button' };
  // What a name may come from beside an element's content (Accessible Name 1.2, 4.3.2).
  const named = ['aria-label', 'aria-labelledby', 'title', 'alt', 'placeholder'];

  // answered finds, of the elements that the browser has to be asked for, those that most pages
  // have: where there is one, reading all without asking would be for nothing.
  const answered = 'input,select,textarea,img,nav,main,section,article,header,footer,table,dialog,label,svg,[role],[aria-label],[title],[alt]';

  // facts gives an element's role and name: as the browser's accessibility tree has them, or for
  // what is plain, and in a document that is too large for it, by the element itself.
  function facts(el, tag, attributes) {
    let role, name = '';
    const stated = attributes ? (el.getAttribute('role') || '').trim().split(/\s+/)[0] : '';
    const simple = !stated && (byTag[tag] === '' || tag === 'LI' || tag === 'UL' || tag === 'OL' || /^H[1-6]$/.test(tag));
    const tells = attributes && named.some((a) => el.hasAttribute(a));
    // What only holds text is called by it, and is what its tag says.
    const acts = !stated && !tells && (tag === 'BUTTON' || tag === 'A' && el.hasAttribute('href')) && el.childElementCount === 0 &&
      (!attributes || !el.getAttributeNames().some((a) => a.startsWith('aria-')));
    if (acts) role = byTag[tag];
    else if (simple && !tells) {
      role = tag === 'LI' ? (/^(UL|OL|MENU)$/.test(el.parentNode && el.parentNode.tagName) ? 'listitem' : '') : byTag[tag];
    } else if (asks) {
      role = el.computedRole || '';
      role = renamed[role] || role;
      if (roles.has(stated)) role = stated;
      if (tag === 'CANVAS') role = 'img';
      if (plain.has(role)) role = '';
      else name = cut(fold(el.computedName || ''));
    } else {
      wants = true;
      role = stated || (tag === 'INPUT' ? inputs[el.type] || 'textbox' : tag === 'SELECT' ? 'combobox' : byTag[tag] || '');
      if (tag === 'A' && !el.hasAttribute('href')) role = '';
      if (plain.has(role)) role = '';
      else if (tells) name = cut(fold(el.getAttribute('aria-label') || el.getAttribute('alt') || el.getAttribute('title') || el.getAttribute('placeholder') || ''));
      else if (el.labels && el.labels.length) name = cut(fold(el.labels[0].textContent));
    }
    return { role, name };
  }

  // still gives what of an element stays until it, or something in it, changes.
  function still(el, doc) {
    let k = kept.get(el);
    if (k) return k;
    const tag = el.tagName;
    const attributes = el.hasAttributes();
    const style = (doc.defaultView || window).getComputedStyle(el);
    const display = style.display;
    k = { skip: tag === 'SCRIPT' || tag === 'STYLE' || tag === 'TEMPLATE' || tag === 'HEAD' || tag === 'NOSCRIPT' || tag === 'META' || tag === 'LINK', none: display === 'none' || attributes && el.getAttribute('aria-hidden') === 'true', contents: display === 'contents', inline: display === 'inline' };
    kept.set(el, k);
    if (k.skip || k.none && display === 'none') return k;
    const f = facts(el, tag, attributes);
    let role = f.role;
    k.fixed = style.position === 'fixed';
    k.seen = style.visibility === 'visible' && style.opacity !== '0';
    const clips = style.overflow !== 'visible';
    k.ox = clips && style.overflowX !== 'visible';
    k.oy = clips && style.overflowY !== 'visible';
    k.kids = kidsOf(el);
    let own = '', inner = 0;
    k.inside = []; // the elements in it
    for (const c of k.kids) {
      if (c.nodeType === 3) own += c.data;
      else if (c.nodeType === 1) inner = k.inside.push(c);
    }
    own = own && fold(own);
    k.frame = tag === 'IFRAME' || tag === 'FRAME';
    k.editable = attributes && el.hasAttribute('contenteditable') && el.isContentEditable;
    k.whole = tag === 'svg' || tag === 'CANVAS' || tag === 'TEXTAREA' || tag === 'INPUT' || tag === 'SELECT';
    const leaf = k.whole || presentational.has(role) && !el.querySelector('[id]');
    const one = !leaf && !k.frame && inner > 0 && own !== '' && phrasing(el, doc);
    k.end = leaf || one || k.editable;
    k.says = own !== '' || leaf || one || role !== '';
    let text = k.whole ? '' : leaf || one ? fold(el.innerText || '') : own;
    if (tag === 'INPUT' && (el.type === 'button' || el.type === 'submit' || el.type === 'reset')) text = fold(el.value);
    k.text = k.editable ? '' : cut(text);
    if (k.editable && role === '') role = 'textbox';
    k.role = role;
    k.name = f.name === text || f.name === own ? '' : f.name;
    k.told = role !== '' || el.id !== '' || text !== '' || k.frame || k.editable;
    k.pointer = leaf || role === 'link' || role === 'listitem' || style.cursor === 'pointer';
    k.style = style; // of which the rest is read where it is needed
    k.attributes = attributes;
    // What attributes say; where one changes all is read anew.
    k.id = el.id || '';
    k.disabled = el.disabled === true || attributes && el.getAttribute('aria-disabled') === 'true';
    k.selected = attributes && el.getAttribute('aria-selected') === 'true';
    k.option = tag === 'OPTION';
    k.busy = attributes && el.getAttribute('aria-busy') === 'true';
    const states = attributes && (el.hasAttribute('aria-valuetext') || el.hasAttribute('aria-valuenow'));
    k.checks = attributes && (el.hasAttribute('aria-checked') || el.hasAttribute('aria-pressed'));
    k.valued = k.whole || tag === 'PROGRESS' || tag === 'METER' || states;
    k.edge = el === doc.documentElement || el === doc.body;
    return k;
  }

  // phrasing tells whether nothing in el is told by itself: it is one text.
  function phrasing(el, doc) {
    if (el.shadowRoot) return false;
    for (const k of el.querySelectorAll('*')) {
      if (k.id !== '' || k.shadowRoot || k.tagName === 'IFRAME' || facts(k, k.tagName, k.hasAttributes()).role !== '') return false;
    }
    return true;
  }

  function kidsOf(el) {
    if (el.shadowRoot) { watch(el.shadowRoot); return el.shadowRoot.childNodes; }
    if (el.tagName === 'SLOT') {
      const assigned = el.assignedNodes({ flatten: true });
      if (assigned.length) return assigned;
    }
    return el.childNodes;
  }

  function valueOf(el, role) {
    switch (el.tagName) {
      case 'INPUT':
        if (el.type === 'checkbox' || el.type === 'radio' || el.type === 'button' || el.type === 'submit' || el.type === 'reset') return '';
        return el.type === 'password' ? '•'.repeat(el.value.length) : el.value;
      case 'TEXTAREA': return el.value;
      case 'SELECT': return [...el.selectedOptions].map((o) => fold(o.label)).join(', ');
      case 'PROGRESS': case 'METER': return String(el.value);
    }
    if (el.isContentEditable && (role === 'textbox' || el.hasAttribute('contenteditable'))) return el.innerText.replace(/\n$/, '');
    if (el.hasAttribute('aria-valuetext')) return el.getAttribute('aria-valuetext');
    if (el.hasAttribute('aria-valuenow')) return el.getAttribute('aria-valuenow');
    return '';
  }

  function checkedOf(el, role) {
    if (el.tagName === 'INPUT' && (el.type === 'checkbox' || el.type === 'radio')) return el.indeterminate ? 'mixed' : String(el.checked);
    for (const a of ['aria-checked', 'aria-pressed']) {
      const v = el.getAttribute(a);
      if (v === 'true' || v === 'false' || v === 'mixed') return v;
    }
    return '';
  }

  // signature is what scripts change without a word: what fields hold, and where the focus is.
  function signature() {
    const all = [];
    for (const r of roots) {
      for (const e of r.querySelectorAll('input,textarea,select')) all.push(e.tagName === 'SELECT' ? e.selectedIndex : e.value, e.checked, e.indeterminate);
    }
    return JSON.stringify(all);
  }

  function look() {
    watch(document);
    const animated = document.getAnimations && document.getAnimations().length > 0;
    const sign = signature();
    if (!dirty && !animated && sign === signed && sent.length > 0 && document.readyState === 'complete') {
      return JSON.stringify({ moment, revision, busy: wasBusy, wants: false, same: true });
    }
    if (!asks && fits() && document.querySelector(answered)) return JSON.stringify({ moment, early: true, wants: true });
    dirty = false;
    signed = sign;
    if (animated) forgetAll();
    const out = [], boxes = [], shown = [];
    // A page that does not fit itself to the screen is laid out wider, and zoomed out.
    const port = visualViewport, zoom = port.scale, width = port.width, height = port.height;
    let busy = document.readyState !== 'complete';
    wants = false;
    referring = !!document.querySelector('[aria-labelledby],[aria-describedby],[aria-owns]');
    const meet = (a, x, y, w, h) => {
      const l = Math.max(a[0], x), t = Math.max(a[1], y);
      return [l, t, Math.min(a[0] + a[2], x + w) - l, Math.min(a[1] + a[3], y + h) - t];
    };
    const active = (doc) => { let a = doc.activeElement; while (a && a.shadowRoot && a.shadowRoot.activeElement) a = a.shadowRoot.activeElement; return a; };

    // walk gives what is in el, each with the depth at which it stands.
    function walk(el, doc, depth, clip, dx, dy, disabled, focus) {
      if (out.length >= most) return;
      const k = still(el, doc);
      if (k.skip) return;
      if (k.none && !(k.inside && el.contains(focus))) return;
      const r = el.getBoundingClientRect();
      const x = r.left + dx, y = r.top + dy, w = r.width, h = r.height;
      if (k.fixed) clip = [0, 0, width, height];
      disabled = disabled || k.disabled;
      let here = depth;
      const box = boxes.length;
      if (x < width && y < height && x + w > 0 && y + h > 0 && w > 0 && h > 0 && !k.contents && k.seen) boxes.push([x, y, x + w, y + h, 0]);
      if (k.told && !k.contents) {
        let v = k.seen ? meet(clip, x, y, w, h) : [0, 0, 0, 0], touch = false, opaque = false;
        if (v[2] <= 0 || v[3] <= 0) v = [0, 0, 0, 0];
        else { touch = k.pointer; opaque = touch && k.style.backgroundColor.startsWith('rgb('); }
        let flags = 0;
        if (disabled) flags |= 1;
        if (el === focus) flags |= 2;
        if (k.selected || k.option && el.selected === true) flags |= 4;
        if (k.busy) { flags |= 8; busy = true; }
        if (opaque) flags |= 16;
        if (touch) flags |= 32;
        const value = k.editable ? el.innerText.replace(/\n$/, '') : k.valued ? valueOf(el, k.role) : '';
        if (v[2] > 0) shown.push([out.length, box, el, doc, v, dx, dy, k]);
        out.push([depth, k.role, k.id, k.name, k.text, cut(value), r2(x), r2(y), r2(w), r2(h), r2(v[0]), r2(v[1]), r2(v[2]), r2(v[3]), flags, k.whole || k.checks ? checkedOf(el, k.role) : '']);
        here = depth + 1;
        if (k.end) return over(box);
      }
      if (k.whole) return over(box);
      if ((k.ox || k.oy) && !k.edge && !k.inline && !k.contents) {
        clip = meet(clip, k.ox ? x : -1e6, k.oy ? y : -1e6, k.ox ? w : 2e6, k.oy ? h : 2e6);
        if (clip[2] < 0) clip[2] = 0;
        if (clip[3] < 0) clip[3] = 0;
      }
      if (k.frame) {
        let content = null;
        try { content = el.contentDocument; } catch (_) { content = null; }
        if (!content || !content.documentElement) return over(box);
        watch(content);
        if (content.readyState !== 'complete') busy = true;
        const bx = x + el.clientLeft, by = y + el.clientTop;
        walk(content.documentElement, content, here, meet(clip, bx, by, el.clientWidth, el.clientHeight), bx, by, disabled, active(content));
        return over(box);
      }
      for (const c of k.inside) walk(c, doc, here, clip, dx, dy, disabled, focus);
      over(box);
    }
    // over notes which boxes lie in one: those until now.
    const over = (box) => { if (box < boxes.length) boxes[box][4] = boxes.length; };

    // judge has what is covered not be seen. Where no other box lies over an element's middle
    // nothing can cover it, and the browser need not be asked, which is slow in long pages.
    function judge() {
      for (const [at, box, el, doc, v, dx, dy, k] of shown) {
        const cx = v[0] + v[2] / 2, cy = v[1] + v[3] / 2;
        const end = box < boxes.length ? boxes[box][4] : box;
        let doubt = false, part = false;
        for (let j = 0; j < boxes.length && !doubt; j++) {
          if (j >= box && j < end || j < box && boxes[j][4] > box) continue; // in it, or around it
          const b = boxes[j];
          if (v[0] + v[2] <= b[0] + 1 || v[0] >= b[2] - 1 || v[1] + v[3] <= b[1] + 1 || v[1] >= b[3] - 1) continue;
          part = true;
          doubt = cx >= b[0] && cx < b[2] && cy >= b[1] && cy < b[3];
        }
        if (part && k.says && partly(el, doc, v, dx, dy, k)) out[at][14] |= 64;
        if (!doubt) continue;
        const hit = meets(el, doc, v, dx, dy, k);
        if (hit > 0) continue;
        out[at][14] &= ~48; // it takes no touches, and hides nothing
        if (hit === 0) for (let i = 10; i < 14; i++) out[at][i] = 0;
      }
    }

    // partly tells whether something lies over a part of what is to be seen of el.
    function partly(el, doc, v, dx, dy, k) {
      const x = v[0] - dx, y = v[1] - dy, w = v[2], h = v[3], i = Math.min(2, w / 4), j = Math.min(2, h / 4);
      for (const px of [x + i, x + w / 4, x + w / 2, x + 3 * w / 4, x + w - i]) {
        for (const py of [y + j, y + h / 2, y + h - j]) if (!meetsAt(el, doc, k, px, py)) return true;
      }
      return false;
    }

    // meetsAt tells whether nothing that one does not see through lies over el at a point.
    function meetsAt(el, doc, k, px, py) {
      const root = el.getRootNode();
      const top = (root.elementFromPoint || doc.elementFromPoint).call(root.elementFromPoint ? root : doc, px, py);
      if (!top) return doc.defaultView !== window; // out of the frame's own view: not to be told from here
      if (top === el || el.contains(top) || top.shadowRoot && top.shadowRoot.contains(el)) return true;
      if (top.contains(el)) return !k.says || k.style.pointerEvents === 'none' || top.tagName === 'LABEL' || inlineOf(el, top);
      if (top.tagName === 'LABEL' && top.control === el) return true;
      for (let e = top; e && !e.contains(el); e = e.parentElement) if (hides(e)) return false;
      return true; // one sees through what lies over it
    }

    // meets tells whether a touch on what is to be seen of el meets it: 1 where it does, 0 where
    // something lies over it wherever one looks, and -1 where it only holds others.
    function meets(el, doc, v, dx, dy, k) {
      const says = k.says;
      const x = v[0] - dx, y = v[1] - dy, w = v[2], h = v[3];
      const at = (px, py) => meetsAt(el, doc, k, px, py);
      if (at(x + w / 2, y + h / 2)) return 1;
      const i = Math.min(3, w / 4), j = Math.min(3, h / 4);
      for (const [px, py] of [[x + i, y + j], [x + w - i, y + j], [x + i, y + h - j], [x + w - i, y + h - j]]) {
        if (at(px, py)) return says ? 1 : -1;
      }
      return says ? 0 : -1;
    }
    const hides = (e) => {
      if (e.tagName === 'IMG' || e.tagName === 'VIDEO' || e.tagName === 'CANVAS' || e.tagName === 'IFRAME') return true;
      const s = getComputedStyle(e), alpha = /^rgba\(.*, ([0-9.]+)\)$/.exec(s.backgroundColor);
      return Number(s.opacity) > 0.5 && (s.backgroundImage !== 'none' || s.backgroundColor !== 'transparent' && (!alpha || Number(alpha[1]) > 0.5));
    };
    const inlineOf = (el, top) => {
      for (let e = el; e && e !== top; e = e.parentElement) {
        if (getComputedStyle(e).pointerEvents === 'none' || getComputedStyle(e).display.startsWith('inline')) return true;
      }
      return false;
    };

    const r2 = (n) => Math.round(n * zoom * 10) / 10;
    if (document.documentElement) walk(document.documentElement, document, 1, [0, 0, width, height], -port.offsetLeft, -port.offsetTop, false, active(document));
    judge();
    wasBusy = busy;
    // Told is what differs from what was told before: most changes are of a few elements.
    const lines = out.map((row) => JSON.stringify(row)), before = sent, n = Math.min(lines.length, before.length);
    let from = 0, rest = 0;
    while (from < n && lines[from] === before[from]) from++;
    if (from === lines.length && from === before.length) return JSON.stringify({ moment, revision, busy, wants: wants && fits(), same: true });
    while (rest < n - from && lines[lines.length - 1 - rest] === before[before.length - 1 - rest]) rest++;
    sent = lines;
    revision++;
    return `{"moment":${JSON.stringify(moment)},"revision":${revision},"busy":${busy},"wants":${wants && fits()},"zoom":${zoom},"title":${JSON.stringify(cut(document.title))},"had":${before.length},"from":${from},"until":${before.length - rest},"elements":[${lines.slice(from, lines.length - rest).join()}]}`;
  }

  // yamatoTapped gives a promise that is kept once the page has done with the touch to come: after
  // the click that it makes, or where it makes none a moment after the finger was lifted.
  globalThis.yamatoTapped = () => new Promise((done) => {
    const kinds = ['click', 'pointerup', 'pointercancel', 'contextmenu'];
    let over = 0;
    const end = () => {
      clearTimeout(over);
      for (const r of roots) for (const k of kinds) r.removeEventListener(k, hear, { capture: true });
      setTimeout(() => done('tapped'), 0);
    };
    const hear = (e) => {
      if (!e.isTrusted) return;
      if (e.type === 'click') return end();
      clearTimeout(over);
      over = setTimeout(end, 60);
    };
    for (const r of roots) {
      if (!r.defaultView) { roots.delete(r); continue; }
      for (const k of kinds) r.addEventListener(k, hear, { capture: true, passive: true });
    }
    over = setTimeout(end, 400);
  });
  const fits = () => document.getElementsByTagName('*').length <= large;
  globalThis.yamatoLook = (afresh) => { if (afresh) { sent = []; dirty = true; } return look(); };
  globalThis.yamatoForget = () => { forgetAll(); sent = []; dirty = true; return ''; };
  globalThis.yamatoAsks = () => { asks = true; forgetAll(); return ''; };
  watch(document);
})();
