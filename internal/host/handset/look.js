// What is on the screen, read in a world of its own beside the page's scripts: nothing that
// the page does to its globals changes what is found here. See screen.Node for the words.
(() => {
  if (globalThis.yamatoLook) return;
  const presentational = new Set(['button', 'checkbox', 'img', 'menuitemcheckbox', 'menuitemradio', 'meter', 'option',
    'progressbar', 'radio', 'scrollbar', 'separator', 'slider', 'switch', 'tab']);
  const plain = new Set(['', 'generic', 'none', 'presentation', 'StaticText', 'InlineTextBox', 'LabelText', 'paragraph',
    'strong', 'emphasis', 'code', 'subscript', 'superscript', 'time', 'mark', 'insertion', 'deletion', 'RootWebArea',
    'Abbr', 'LineBreak', 'term', 'caption']);
  const roles = new Set(['option', 'tab', 'listitem', 'menuitem', 'row', 'cell', 'gridcell', 'treeitem', 'columnheader',
    'rowheader', 'radio', 'menuitemradio', 'menuitemcheckbox']); // those that need another around them (WAI-ARIA 1.2, 5.2.6)
  const renamed = { image: 'img', textField: 'textbox', 'graphics-document': 'img', 'graphics-object': 'img',
    'graphics-symbol': 'img', comboBoxSelect: 'combobox' };
  const longest = 2000; // characters of one text
  const most = 20000; // elements
  let computed = new WeakMap(); // element to its role and name
  let referring = false; // names may come from elsewhere in the document
  let last = '', revision = 0;
  const watched = new WeakSet();
  const roots = new Set(); // documents and shadow roots that are watched
  const moment = String(performance.timeOrigin);

  const tell = () => { if (globalThis.yamatoChanged) globalThis.yamatoChanged(''); };
  let told = false;
  function changed() {
    if (told) return;
    told = true;
    setTimeout(() => { told = false; tell(); }, 8);
  }

  function forget(el) {
    for (let e = el; e; e = e.parentNode || e.host) computed.delete(e);
  }
  function mutated(list) {
    for (const m of list) {
      if (m.type === 'attributes') {
        const n = m.attributeName;
        if (n === 'id' || n === 'for' || n === 'aria-labelledby' || n === 'role' || n.startsWith('aria-')) {
          computed = new WeakMap();
          continue;
        }
        if (n === 'class' || n === 'style' || n === 'hidden') { computed = new WeakMap(); continue; }
      }
      forget(m.target.nodeType === 1 ? m.target : m.target.parentNode);
    }
    if (referring) computed = new WeakMap();
    changed();
  }
  function watch(root) {
    if (watched.has(root)) return;
    watched.add(root);
    if (root.nodeType === 9) roots.add(root);
    new MutationObserver(mutated).observe(root, { subtree: true, childList: true, attributes: true, characterData: true });
    for (const kind of ['scroll', 'focus', 'blur', 'input', 'change', 'load', 'toggle', 'transitionend', 'animationend',
      'animationstart', 'transitionstart', 'resize', 'pointerdown', 'pointerup']) {
      (root.defaultView || root).addEventListener(kind, changed, { capture: true, passive: true });
    }
  }

  const fold = (s) => s.replace(/\s+/g, ' ').trim();
  const cut = (s) => (s.length > longest ? s.slice(0, longest) + '…' : s);

  function facts(el) {
    let f = computed.get(el);
    if (f) return f;
    let role = el.computedRole || '', name = '';
    role = renamed[role] || role;
    // What stands in the markup counts also where the browser leaves it out, as it does with an
    // option outside of a listbox.
    const stated = (el.getAttribute('role') || '').trim().split(/\s+/)[0];
    if (roles.has(stated)) role = stated;
    if (el.tagName === 'CANVAS') role = 'img';
    if (plain.has(role)) {
      role = '';
    } else {
      name = cut(fold(el.computedName || ''));
    }
    f = { role, name };
    computed.set(el, f);
    return f;
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

  function look() {
    const out = [];
    const width = innerWidth, height = innerHeight;
    let busy = document.readyState !== 'complete';
    watch(document);
    referring = !!document.querySelector('[aria-labelledby],[aria-describedby],[aria-owns]');
    const meet = (a, x, y, w, h) => {
      const l = Math.max(a[0], x), t = Math.max(a[1], y);
      return [l, t, Math.min(a[0] + a[2], x + w) - l, Math.min(a[1] + a[3], y + h) - t];
    };
    const active = (doc) => { let a = doc.activeElement; while (a && a.shadowRoot && a.shadowRoot.activeElement) a = a.shadowRoot.activeElement; return a; };

    // walk gives what is in el, each with the depth at which it stands.
    function walk(el, doc, depth, clip, dx, dy, disabled, focus) {
      if (out.length >= most) return;
      const tag = el.tagName;
      if (tag === 'SCRIPT' || tag === 'STYLE' || tag === 'TEMPLATE' || tag === 'HEAD' || tag === 'NOSCRIPT' || tag === 'META' || tag === 'LINK') return;
      const style = (doc.defaultView || window).getComputedStyle(el);
      const display = style.display;
      if (display === 'none') return;
      if (el.getAttribute('aria-hidden') === 'true' && !el.contains(focus)) return;
      const r = el.getBoundingClientRect();
      let x = r.left + dx, y = r.top + dy, w = r.width, h = r.height;
      const position = style.position;
      if (position === 'fixed') clip = [0, 0, width, height];
      const seen = style.visibility === 'visible' && style.opacity !== '0';
      const f = facts(el);
      let role = f.role;
      disabled = disabled || el.disabled === true || el.getAttribute('aria-disabled') === 'true';
      let kids = kidsOf(el);
      let own = '', inner = 0;
      for (const k of kids) {
        if (k.nodeType === 3) own += k.data;
        else if (k.nodeType === 1) inner++;
      }
      own = fold(own);
      const frame = tag === 'IFRAME' || tag === 'FRAME';
      let content = null;
      if (frame) { try { content = el.contentDocument; } catch (_) { content = null; } }
      const leaf = presentational.has(role) && tag !== 'SELECT' && !el.querySelector('[id]') || tag === 'svg' || tag === 'CANVAS' || tag === 'TEXTAREA' || tag === 'INPUT' || tag === 'SELECT';
      const simple = !leaf && !frame && inner > 0 && own !== '' && phrasing(el);
      let text = leaf ? (tag === 'INPUT' || tag === 'TEXTAREA' || tag === 'SELECT' || tag === 'svg' || tag === 'CANVAS' ? '' : fold(el.innerText || '')) : simple ? fold(el.innerText || '') : own;
      if (tag === 'INPUT' && (el.type === 'button' || el.type === 'submit' || el.type === 'reset')) text = fold(el.value);
      text = cut(text);
      let here = depth;
      const editable = el.isContentEditable && el.hasAttribute('contenteditable');
      if (el === doc.body && !el.id && !text) role = '';
      const told = role !== '' || el.id !== '' || text !== '' || frame || editable;
      const inside = meet(clip, x, y, w, h);
      if (told && display !== 'contents') {
        const on = seen && inside[2] > 0 && inside[3] > 0;
        let v = on ? inside : [0, 0, 0, 0];
        let touch = false, opaque = false;
        if (on) {
          const hit = meets(el, doc, v, dx, dy, own !== '' || leaf || simple || role !== '');
          if (hit === 0) v = [0, 0, 0, 0];
          touch = hit > 0 && (leaf || role === 'link' || role === 'listitem' || style.cursor === 'pointer');
          opaque = hit > 0 && touch && style.backgroundColor !== 'rgba(0, 0, 0, 0)' && style.backgroundColor.startsWith('rgb(');
        }
        let flags = 0;
        if (disabled) flags |= 1;
        if (el === focus && doc.hasFocus !== undefined) flags |= 2;
        if (el.getAttribute('aria-selected') === 'true' || el.selected === true) flags |= 4;
        if (el.getAttribute('aria-busy') === 'true') { flags |= 8; busy = true; }
        if (opaque) flags |= 16;
        if (touch) flags |= 32;
        let name = f.name;
        if (name === text || name === own) name = '';
        const value = editable ? el.innerText.replace(/\n$/, '') : valueOf(el, role);
        if (editable && role === '') role = 'textbox';
        out.push([depth, role, el.id || '', name, editable ? '' : text, cut(value), r2(x), r2(y), r2(w), r2(h), r2(v[0]), r2(v[1]), r2(v[2]), r2(v[3]), flags, checkedOf(el, role)]);
        here = depth + 1;
        if (leaf || simple || editable) return;
      }
      if (tag === 'SELECT' || tag === 'svg') return;
      const ox = style.overflowX, oy = style.overflowY;
      if (el !== doc.documentElement && el !== doc.body && (ox !== 'visible' || oy !== 'visible') && display !== 'inline' && display !== 'contents') {
        clip = meet(clip, ox !== 'visible' ? x : -1e6, oy !== 'visible' ? y : -1e6, ox !== 'visible' ? w : 2e6, oy !== 'visible' ? h : 2e6);
        if (clip[2] < 0) clip[2] = 0;
        if (clip[3] < 0) clip[3] = 0;
      }
      if (content && content.documentElement) {
        watch(content);
        if (content.readyState !== 'complete') busy = true;
        const bx = x + el.clientLeft, by = y + el.clientTop;
        walk(content.documentElement, content, here, meet(clip, bx, by, el.clientWidth, el.clientHeight), bx, by, disabled, active(content));
        return;
      }
      for (const k of kids) if (k.nodeType === 1) walk(k, doc, here, clip, dx, dy, disabled, focus);
    }

    // phrasing tells whether nothing in el is told by itself: it is one text.
    function phrasing(el) {
      for (const k of el.querySelectorAll('*')) {
        if (k.id !== '' || k.shadowRoot || facts(k).role !== '' || k.tagName === 'IFRAME') return false;
      }
      return !el.shadowRoot;
    }

    // meets tells whether a touch on what is to be seen of el meets it: 1 where it does, 0 where
    // something lies over it wherever one looks, and -1 where it only holds others.
    function meets(el, doc, v, dx, dy, says) {
      const x = v[0] - dx, y = v[1] - dy, w = v[2], h = v[3];
      const root = el.getRootNode();
      const at = (px, py) => {
        let top = (root.elementFromPoint || doc.elementFromPoint).call(root.elementFromPoint ? root : doc, px, py);
        if (!top) return doc.defaultView !== window; // out of the frame's own view: not to be told from here
        while (top && top !== el) {
          if (el.contains(top)) return true;
          if (top.shadowRoot && top.shadowRoot.contains(el)) return true;
          break;
        }
        if (top === el) return true;
        if (top.contains(el)) return !says || getComputedStyle(el).pointerEvents === 'none' || top.tagName === 'LABEL' || inlineOf(el, top);
        return top.tagName === 'LABEL' && top.control === el;
      };
      if (at(x + w / 2, y + h / 2)) return 1;
      const i = Math.min(3, w / 4), j = Math.min(3, h / 4);
      for (const [px, py] of [[x + i, y + j], [x + w - i, y + j], [x + i, y + h - j], [x + w - i, y + h - j]]) {
        if (at(px, py)) return says ? 1 : -1;
      }
      return says ? 0 : -1;
    }
    const inlineOf = (el, top) => {
      for (let e = el; e && e !== top; e = e.parentElement) {
        if (getComputedStyle(e).pointerEvents === 'none' || getComputedStyle(e).display.startsWith('inline')) return true;
      }
      return false;
    };

    const r2 = (n) => Math.round(n * 10) / 10;
    if (document.documentElement) walk(document.documentElement, document, 1, [0, 0, width, height], 0, 0, false, active(document));
    const text = JSON.stringify(out);
    if (text === last) return JSON.stringify({ moment, revision, busy, same: true });
    last = text;
    revision++;
    return `{"moment":${JSON.stringify(moment)},"revision":${revision},"busy":${busy},"title":${JSON.stringify(cut(document.title))},"language":${JSON.stringify(document.documentElement ? document.documentElement.lang : '')},"url":${JSON.stringify(cut(location.href))},"elements":${text}}`;
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
  globalThis.yamatoLook = (afresh) => { if (afresh) last = ''; return look(); };
  watch(document);
})();
