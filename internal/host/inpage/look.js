// What is on the screen, read in a world of its own beside the page's scripts: nothing that
// the page does to its globals changes what is found here. See screen.Node for the words.
// The name of the event by which due.js is asked, drawn.js and control.js stand before it, in the same function.
const presentational = new Set(['button', 'checkbox', 'img', 'menuitemcheckbox', 'menuitemradio', 'meter', 'option',
  'progressbar', 'radio', 'scrollbar', 'separator', 'slider', 'switch', 'tab']);
const plain = new Set(['', 'generic', 'none', 'presentation', 'StaticText', 'InlineTextBox', 'LabelText', 'paragraph',
  'strong', 'emphasis', 'code', 'subscript', 'superscript', 'time', 'mark', 'insertion', 'deletion', 'RootWebArea',
  'Abbr', 'LineBreak', 'term', 'caption', 'sectionheader', 'sectionfooter']);
// The roles that an author may give and a script may name (WAI-ARIA 1.2, 5.4), but for those that say nothing.
const stateable = new Set(('alert alertdialog application article banner blockquote button caption cell checkbox code columnheader ' +
  'combobox complementary contentinfo definition deletion dialog directory document emphasis feed figure form grid gridcell group ' +
  'heading img insertion link list listbox listitem log main marquee math menu menubar menuitem menuitemcheckbox menuitemradio meter ' +
  'navigation note option paragraph progressbar radio radiogroup region row rowgroup rowheader scrollbar search searchbox separator ' +
  'slider spinbutton status strong subscript superscript switch tab table tablist tabpanel term textbox time timer toolbar tooltip ' +
  'tree treegrid treeitem').split(' '));
const renamed = { image: 'img', textField: 'textbox', 'graphics-document': 'img', 'graphics-object': 'img',
  'graphics-symbol': 'img', comboBoxSelect: 'combobox' };
const most = 20000; // elements
const large = 15000; // elements from which on the browser's own tree is too slow to be asked for
let kept = new WeakMap(); // element to what of it changes with it alone
let referring = false; // names may come from elsewhere in the document
let asks = !native; // the browser may be asked for roles and names, or it is known without it (named.js)
let wants = false; // and should be, by what was found
let sent = [], revision = 0, wasBusy = false, wasCalm = false, wasPicked = 'null'; // sent is what was told, an element a line
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
  settle();
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
    // What stood beside something that went may be the first or the last now.
    if (styled && m.removedNodes.length > 0 && (m.previousSibling || m.nextSibling)) forgetAll();
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

// What the page's rules may do: whether style depends on what hands do (on what is touched, has the focus, or is
// checked), whether it writes text of its own, and which properties it has at all: of the others each element has
// what it begins with, and none is asked for (null: all may be used).
let rules = '', ruleText = '', depends = true, writes = true, used = null, unread = '';
const mostRules = 60000; // characters of rules up to which they are read anew each time
// others notes what is known of the rules: where they are others than before, without a word of it, all is read anew.
function others(now) {
  if (now !== ruleText) forgetAll();
  ruleText = now;
}
function readRules() {
  const before = writes, usedBefore = unread;
  const all = () => { depends = writes = true; used = null; unread = ''; };
  if (watchedRoots > 1) all(); // frames and shadow roots have rules of their own
  else {
    try {
      const sheets = [...document.styleSheets, ...(document.adoptedStyleSheets || [])];
      let n = sheets.length;
      for (const s of sheets) n += s.cssRules.length;
      let text = '';
      if (n + '' !== rules) {
        for (const s of sheets) for (const r of s.cssRules) text += r.cssText + '\n';
        others(text.length > mostRules ? `${n} rules` : text);
        if (/@import/.test(text)) all();
        else {
          depends = /:(active|focus|hover|checked|indeterminate|target|valid|invalid|user-|in-range|out-of-range|placeholder-shown|has|empty|open|popover|state)/.test(text);
          writes = /::?(before|after|marker)/.test(text);
          rules = text.length > mostRules ? n + '' : ''; // short ones may change without their number
          used = null;
          unread = '';
          if (text.length <= mostRules && !document.querySelector(presented)) {
            for (const e of document.querySelectorAll('[style]')) { text += e.getAttribute('style') + ';'; if (text.length > 2 * mostRules) break; }
            if (text.length <= 2 * mostRules) {
              used = new Set();
              for (const [name, pattern] of properties) if (pattern.test(text)) used.add(name); else unread += name + ' ';
            }
          }
        }
      }
    } catch (_) { all(); others(`${document.styleSheets.length} sheets`); } // those of a sheet from elsewhere cannot be read
  }
  if (writes !== before || unread !== usedBefore) forgetAll();
}
// presented are attributes and elements that style without a rule.
const presented = '[bgcolor],[background],[border],[frame],[rules],[hidden=until-found],[popover],font,marquee';
const properties = [['border', /border|outline/], ['shadow', /box-shadow/], ['visibility', /visibility/], ['clarity', /opacity|filter/], ['veil', /content-visibility/], ['clip', /clip/],
  ['overflow', /overflow|contain/], ['touch', /pointer-events/], ['transform', /text-transform/], ['ink', /text-fill|background-clip|-webkit-mask|text-shadow|text-stroke|text-indent|font|transparent|rgba|\/\s*[\d.]+%?\s*\)|#[0-9a-f]{4}\b|#[0-9a-f]{8}\b|color\(|color-mix|hsla|hwb|lab|lch|var\(/i],
  ['dots', /text-security/], ['cursor', /cursor/], ['lift', /z-index|transform|translate|rotate|scale|filter|clip-path|will-change|isolation|blend|perspective|mask|contain|offset|zoom/], ['image', /background|url\(|gradient/]];
const stateful = () => { readRules(); return depends; };
function watch(root) {
  if (watched.has(root)) return;
  watched.add(root);
  watchedRoots++;
  if (root.nodeType === 9) { roots.add(root); listenForLists(root.defaultView); }
  new MutationObserver(mutated).observe(root, { subtree: true, childList: true, attributes: true, characterData: true });
  for (const kind of ['scroll', 'focus', 'blur', 'input', 'change', 'load', 'toggle', 'transitionend', 'animationend',
    'animationstart', 'transitionstart', 'resize', 'pointerdown', 'pointerup']) {
    (root.defaultView || root).addEventListener(kind, moved, { capture: true, passive: true });
  }
}

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
  const stated = attributes && el.hasAttribute('role') ? (el.getAttribute('role').toLowerCase().split(/\s+/).find((r) => stateable.has(r)) || '') : '';
  const quiet = attributes && el.hasAttribute('role') && stated === ''; // none, presentation, or nothing that there is
  const simple = !stated && (byTag[tag] === '' || tag === 'LI' || tag === 'UL' || tag === 'OL' || /^H[1-6]$/.test(tag));
  if (tag === 'INPUT' && el.type === 'file') return { role: stated || 'button', name: cut(fold(el.getAttribute('aria-label') || (el.labels && el.labels[0] ? el.labels[0].innerText : ''))) };
  const tells = attributes && named.some((a) => el.hasAttribute(a));
  // What only holds text is called by it, and is what its tag says.
  const acts = !stated && !tells && (tag === 'BUTTON' || tag === 'A' && el.hasAttribute('href')) && el.childElementCount === 0 &&
    (!attributes || !el.getAttributeNames().some((a) => a.startsWith('aria-')));
  if (acts) role = byTag[tag];
  else if (simple && !tells) {
    role = tag === 'LI' ? (/^(UL|OL|MENU)$/.test(el.parentNode && el.parentNode.tagName) ? 'listitem' : '') : byTag[tag];
  } else if (asks) {
    role = (native ? el.computedRole : roleOf(el)) || '';
    role = stated || renamed[role] || role;
    if (tag === 'CANVAS' && stated === '') role = 'img';
    // What is kept from assistive technology is seen by people: it is what its tag says.
    if ((role === '' || role === 'none') && !quiet) role = byTag[tag] || (tag === 'INPUT' && inputs[el.type]) || '';
    if (plain.has(role) && stated === '') role = '';
    if (role !== '' || attributes && el.hasAttribute('aria-label')) name = cut(fold(plainSigns((native ? el.computedName : nameOf(el, role)) || '')));
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

const skipped = new Set(['SCRIPT', 'STYLE', 'TEMPLATE', 'HEAD', 'NOSCRIPT', 'META', 'LINK', 'TITLE', 'title', 'desc', 'defs', 'symbol',
  'metadata', 'clipPath', 'mask', 'marker', 'pattern', 'DATALIST', 'SOURCE', 'TRACK', 'PARAM', 'AREA']);

// still gives what of an element stays until it, or something in it, changes.
function still(el, doc) {
  let k = kept.get(el);
  if (k) return k;
  const tag = el.tagName;
  const attributes = el.hasAttributes();
  const style = (doc.defaultView || window).getComputedStyle(el);
  const display = style.display;
  k = { tag, skip: skipped.has(tag), none: display === 'none', contents: display === 'contents', inline: display.startsWith('inline') || display.startsWith('ruby'), attributes, style, kids: [], inside: [], before: '', after: '' };
  kept.set(el, k);
  if (k.skip || k.none) return k;
  readStyle(k, el, tag, style, doc);
  k.kids = kidsOf(el);
  k.svg = tag === 'svg' && el.querySelector('text,foreignObject') !== null;
  for (const c of k.kids) if (c.nodeType === 1) k.inside.push(c);
  if (k.svg) k.inside = [...el.querySelectorAll('text,foreignObject,[id],[role]')].slice(0, most / 4).filter((c) => c.tagName === 'text' || !c.closest('text,defs'));
  k.frame = tag === 'IFRAME' || tag === 'FRAME' || (tag === 'OBJECT' || tag === 'EMBED') && !!el.contentDocument;
  k.list = isList(el);
  k.whole = tag === 'svg' && !k.svg || tag === 'CANVAS' || tag === 'TEXTAREA' || tag === 'INPUT' || tag === 'SELECT' && !k.list || tag === 'VIDEO' || tag === 'AUDIO';
  if (writes && !k.whole) { k.before = generated(el, '::before', doc); k.after = generated(el, '::after', doc); k.paints = k.paints || ornamented(el, doc); }
  const f = facts(el, tag, attributes);
  let role = f.role;
  if (k.list) role = 'listbox';
  k.editable = attributes && el.hasAttribute('contenteditable') && el.isContentEditable;
  // What is written in it.
  const words = k.whole ? '' : ownWords(el, k, doc), written = fold(words);
  const own = k.before || k.after ? fold(k.before + words + k.after) : written;
  k.paints = k.paints || own !== '';
  const leaf = k.whole || presentational.has(role);
  let text = '';
  if (tag === 'CANVAS') { if (f.name === '') f.name = cut(fold(el.textContent)); } // what the page tells of what is drawn
  else if (leaf && !k.whole) text = fold(lineOf(el, doc, true));
  else if (own !== '' && !k.editable) text = fold(lineOf(el, doc, false));
  if (tag === 'INPUT' && (el.type === 'button' || el.type === 'submit' || el.type === 'reset')) text = fold(el.value) || (el.type === 'button' ? '' : f.name);
  if (tag === 'OPTION' && text === '') text = fold(el.label);
  const one = !leaf && !k.frame && k.inside.length > 0 && own !== '' && phrasing(el, doc);
  k.end = k.whole || one || leaf && k.inside.length > 0 && whole(el, doc, text);
  k.paints = k.paints || text !== '' || k.end && k.inside.length > 0 && paints(el, doc);
  k.covers = k.grounded || covering.has(tag) || k.end && k.inside.length > 0 && k.paints; // what is in what is told as one is not walked
  k.says = own !== '' || leaf || one || role !== '';
  k.text = k.editable ? '' : cut(text);
  if (k.editable && role === '') role = 'textbox';
  k.role = role;
  k.name = f.name === text || f.name === own ? '' : f.name;
  if (k.name === '' && written !== '' && own !== written) k.name = cut(written); // what a style adds, nobody need know
  // Words beside a control are known without what is written on that.
  if (k.name === '' && own !== '' && own !== text && k.inside.some((c) => /^(BUTTON|INPUT|SELECT|TEXTAREA)$/.test(c.tagName))) k.name = cut(own);
  k.told = role !== '' || el.id !== '' || text !== '' || k.frame || k.editable || k.name !== '';
  k.pointer = leaf || role === 'link' || role === 'listitem' || (!used || used.has('cursor') || el.ownerSVGElement) && style.cursor === 'pointer';
  k.field = tag === 'INPUT' && !['hidden', 'button', 'submit', 'reset', 'image'].includes(el.type);
  // What attributes say; where one changes all is read anew.
  k.id = typeof el.id === 'string' ? el.id : '';
  k.disabled = el.disabled === true || attributes && el.getAttribute('aria-disabled') === 'true';
  k.selected = attributes && el.getAttribute('aria-selected') === 'true';
  k.option = tag === 'OPTION';
  k.busy = attributes && el.getAttribute('aria-busy') === 'true';
  const states = attributes && (el.hasAttribute('aria-valuetext') || el.hasAttribute('aria-valuenow'));
  k.checks = attributes && (el.hasAttribute('aria-checked') || el.hasAttribute('aria-pressed'));
  k.valued = k.whole && tag !== 'svg' && tag !== 'CANVAS' || k.list || tag === 'PROGRESS' || tag === 'METER' || states;
  k.edge = el === doc.documentElement || el === doc.body;
  k.item = display === 'list-item' && k.seen ? markerOf(el, style, doc) : '';
  return k;
}

// readStyle reads of a style what decides on whether, and how, an element is drawn.
function readStyle(k, el, tag, style, doc) {
  // What no rule speaks of need not be asked for, but of drawings, which have attributes for it, and of what the
  // browser itself styles.
  const uses = used && !animating && !el.ownerSVGElement && !styledByItself.has(tag) && el !== doc.activeElement ? (name) => used.has(name) : () => true;
  const ground = style.backgroundColor, image = uses('image') && style.backgroundImage !== 'none', bare = transparent(ground), position = style.position;
  k.paints = !bare || image || drawnTags.has(tag) || uses('border') && (style.borderWidth !== '0px' || style.outlineStyle !== 'none' && style.outlineWidth !== '0px') ||
    uses('shadow') && style.boxShadow !== 'none';
  if (shapes.has(tag)) k.paints = style.fill !== 'none' && !transparent(style.fill) || style.stroke !== 'none' || tag === 'use' || tag === 'image';
  if (tag === 'g') k.paints = el.querySelector('rect,circle,ellipse,path,line,polyline,polygon,use,image,text') !== null;
  k.hides = uses('visibility') && style.visibility !== 'visible'; // its own; what is in it may be seen
  k.clear = uses('clarity') ? clarity(style) : 1; // what is in it is as faint
  if (el.ownerSVGElement) for (let e = el.parentElement; e && e.tagName !== 'svg'; e = e.parentElement) k.clear *= clarity(getComputedStyle(e));
  k.veiled = uses('veil') && style.contentVisibility === 'hidden';
  k.closed = tag === 'DETAILS' && !el.open;
  k.cuts = uses('clip') && (style.clipPath !== 'none' || position === 'absolute' && style.clip !== 'auto');
  const clips = uses('overflow') && style.overflow !== 'visible';
  k.ox = clips && style.overflowX !== 'visible';
  k.oy = clips && style.overflowY !== 'visible';
  k.fixed = position === 'fixed';
  k.absolute = position === 'absolute';
  k.placed = position !== 'static';
  k.seen = !k.hides && k.clear > faintest;
  k.through = uses('touch') && style.pointerEvents === 'none';
  k.transform = uses('transform') && style.textTransform !== 'none' ? style.textTransform : '';
  if (k.transform) k.language = (el.closest('[lang]') || document.documentElement).lang;
  k.ink = style.webkitTextFillColor;
  k.nothing = uses('ink') && (parseFloat(style.fontSize) < 1 || transparent(k.ink) && style.webkitBackgroundClip !== 'text' && style.textShadow === 'none' && parseFloat(style.webkitTextStrokeWidth) === 0 ||
    Math.abs(parseFloat(style.textIndent)) > 500);
  k.dots = uses('dots') && style.webkitTextSecurity !== 'none' && tag !== 'INPUT';
  k.ground = image ? null : bare ? undefined : solid(ground) ? ground : null;
  k.grounded = image || !bare;
  k.lift = uses('lift') ? liftOf(k, style) : k.placed || k.clear < 1 ? 1 : 0;
  // The ways to keep words from eyes and leave them to other senses: nobody reads what has no room.
  k.gone = k.clear <= faintest || (k.cuts || k.ox && (position === 'absolute' || k.fixed)) && roomless(k, el);
}
// styledByItself are elements that the browser gives a style of which no rule of the page's speaks.
const styledByItself = new Set(['INPUT', 'SELECT', 'TEXTAREA', 'BUTTON', 'IFRAME', 'FRAME', 'VIDEO', 'AUDIO', 'IMG', 'CANVAS', 'svg', 'math', 'DIALOG', 'FIELDSET', 'HR', 'METER', 'PROGRESS', 'OBJECT', 'EMBED', 'DETAILS', 'SUMMARY', 'TABLE', 'TD', 'TH']);
// covering are elements that may hide what is behind them without a ground of their own.
const covering = new Set(['IMG', 'VIDEO', 'CANVAS', 'IFRAME', 'FRAME', 'OBJECT', 'EMBED']);

// liftOf tells whether an element is drawn over what comes after it in the document (CSS 2.2, appendix E): 1, or 2
// where it may as well be drawn under it.
function liftOf(k, style) {
  const z = style.zIndex;
  if (z !== 'auto') return z.startsWith('-') ? 2 : 1;
  if (k.placed || k.clear < 1 || style.transform !== 'none' || style.filter !== 'none' || style.clipPath !== 'none' || style.willChange !== 'auto' ||
    style.isolation !== 'auto' || style.mixBlendMode !== 'normal' || style.perspective !== 'none' || style.backdropFilter !== 'none' ||
    style.maskImage !== 'none' || style.contain !== 'none' || style.translate !== 'none' || style.rotate !== 'none' || style.scale !== 'none') return 1;
  return 0;
}
const shapes = new Set(['rect', 'circle', 'ellipse', 'path', 'line', 'polyline', 'polygon', 'use', 'image']);
const drawnTags = new Set(['IMG', 'VIDEO', 'AUDIO', 'CANVAS', 'svg', 'INPUT', 'SELECT', 'TEXTAREA', 'METER', 'PROGRESS', 'IFRAME', 'FRAME', 'OBJECT', 'EMBED', 'HR', 'text']);
function roomless(k, el) {
  const w = el.offsetWidth, h = el.offsetHeight;
  if (k.ox && w <= 1 || k.oy && h <= 1) return true;
  const part = k.cuts && clipped(k.style, w, h);
  return !!part && (part[2] <= 1 || part[3] <= 1);
}

// phrasing tells whether nothing in el is told by itself: it is one text.
function phrasing(el, doc) {
  if (el.shadowRoot) return false;
  for (const k of el.querySelectorAll('*')) {
    if (k.id !== '' || k.shadowRoot || k.tagName === 'IFRAME' || k.tagName === 'OBJECT' || facts(k, k.tagName, k.hasAttributes()).role !== '' || !inline(still(k, doc), k)) return false;
  }
  return true;
}

// whole tells whether what is in an element that acts as one is no more than its own words: else its
// parts are told as well.
function whole(el, doc, text) {
  if (el.shadowRoot) return false;
  let parts = 0;
  for (const c of el.querySelectorAll('*')) {
    if (c.id !== '' || c.shadowRoot || /^(IFRAME|SLOT|BUTTON|A|INPUT|SELECT|TEXTAREA)$/.test(c.tagName) || c.hasAttribute('role')) return false;
    const k = still(c, doc);
    if (k.skip || k.none || !k.text) continue;
    if (k.text !== text) parts++;
  }
  return parts === 0;
}

function kidsOf(el) {
  if (el.shadowRoot) { watch(el.shadowRoot); return el.shadowRoot.childNodes; }
  if (el.tagName === 'SLOT') {
    const assigned = el.assignedNodes({ flatten: true });
    if (assigned.length) return assigned;
  }
  return el.childNodes;
}

// signature is what scripts change without a word: what fields hold, and where the focus is.
function signature() {
  const all = [];
  for (const r of roots) {
    for (const e of r.querySelectorAll('input,textarea,select')) all.push(e.tagName === 'SELECT' ? e.selectedIndex : e.value, e.checked, e.indeterminate);
  }
  return JSON.stringify(all);
}

// still: nothing is under way that could change the page. A frame has been drawn since it last changed, no
// picture or font is on its way, nothing moves, and the page's own scripts have nothing due (due.js).
let drawnSince = false, waits = 0;
function settle() {
  drawnSince = false;
  const n = ++waits;
  const hop = new MessageChannel();
  let frame = false;
  hop.port1.onmessage = () => { // what was posted before has been delivered; and then a frame was drawn, with what observers make of it
    if (n !== waits) return;
    if (frame) { drawnSince = true; tell(); return; }
    frame = true;
    requestAnimationFrame(() => hop.port2.postMessage(0));
  };
  hop.port2.postMessage(0);
}
// leaving is when the page began to go elsewhere, or to open what is elsewhere.
let leaving = -1e9;
globalThis.yamatoLeaves = () => { leaving = performance.now(); return ''; };
if (globalThis.navigation) {
  navigation.addEventListener('navigate', (e) => { if (!e.destination.sameDocument && e.downloadRequest === null) leaving = performance.now(); });
  for (const kind of ['navigateerror', 'navigatesuccess']) navigation.addEventListener(kind, () => { leaving = -1e9; });
}
addEventListener('click', (e) => {
  const a = e.composedPath().find((n) => n.tagName === 'A' || n.tagName === 'AREA');
  if (a && a.href && a.target && a.target !== '_self') leaving = performance.now() - 2500;
}, { capture: true, passive: true });
let oddPictures = -1; // since when some have been on their way
let asking = 0; // a look has found that it does not rest: who looks is told once it does
function rests(animated) {
  const ms = restsFor(animated);
  if (ms === 0 && drawnSince && asking === 0) {
    const again = (left) => { asking = left > 0 ? setTimeout(() => { asking = 0; if (!drawnSince) return; if (restsFor(document.getAnimations().length > 0) > 0) tell(); else again(left - 1); }, 12) : 0; };
    again(25);
  }
  return ms;
}
function restsFor(animated) {
  if (!drawnSince) { if (waits === 0) settle(); return 0; }
  if (performance.now() - leaving < 3000 || animated || document.readyState !== 'complete' || document.fonts.status !== 'loaded' || frames.size > 0) return 0;
  for (const i of document.images) if (!i.complete && i.loading !== 'lazy') { if (oddPictures < 0) oddPictures = performance.now(); if (performance.now() - oddPictures < 3000) return 0; }
  for (const m of document.querySelectorAll('video,audio,marquee,object,embed')) if (m.tagName !== 'VIDEO' && m.tagName !== 'AUDIO' || !m.paused) return 0;
  const asked = (ms) => [...roots].every((r) => !r.defaultView || r.dispatchEvent(new UIEvent(dueName, { cancelable: true, detail: ms })));
  if (document.dispatchEvent(new UIEvent(dueName, { cancelable: true, detail: -1 }))) return 0; // nobody is here who knows
  return !asked(300) ? 0 : asked(1000) ? 1000 : 300;
}

const frames = new Map(); // what holds a document that cannot be read from here, to the number that it goes by
let began = false; // something was told
let animating = false; // scripts may style what is animated

function look() {
  watch(document);
  const animated = document.getAnimations && document.getAnimations().length > 0;
  const sign = signature();
  if (began && !dirty && !animated && sign === signed && document.readyState === 'complete') {
    return JSON.stringify({ moment, revision, busy: wasBusy, calm: wasCalm, rests: rests(animated), wants: false, same: true });
  }
  if (!asks && fits() && document.querySelector(answered)) return JSON.stringify({ moment, early: true, wants: true });
  dirty = false;
  signed = sign;
  animating = animated;
  if (animated) forgetAll();
  readRules();
  counted = new Map();
  numbered = new Map();
  const out = [], boxes = [], shown = [], own = [];
  const standins = new Set(); // what fields are drawn by that are not drawn themselves: it covers none of them
  const elements = globalThis.yamatoElements = []; // what each row tells of
  // A page that does not fit itself to the screen is laid out wider, and zoomed out.
  const port = visualViewport, zoom = port.scale, width = port.width, height = port.height;
  let busy = document.readyState === 'loading', painted = 0, walked = 0;
  const inner = new Map(); // what holds others, to what it clips them to
  wants = false;
  referring = !!document.querySelector('[aria-labelledby],[aria-describedby],[aria-owns]');
  const meet = (a, x, y, w, h) => {
    const l = Math.max(a[0], x), t = Math.max(a[1], y);
    return [l, t, Math.min(a[0] + a[2], x + w) - l, Math.min(a[1] + a[3], y + h) - t];
  };
  const active = (doc) => { let a = doc.activeElement; while (a && a.shadowRoot && a.shadowRoot.activeElement) a = a.shadowRoot.activeElement; return a; };

  // walk gives what is in el, each with the depth at which it stands. at is how what it lies in is drawn:
  // what is clipped away, how clear it is, and what ground it has.
  function walk(el, doc, depth, clip, at, dx, dy, disabled, focus) {
    if (out.length >= most) return;
    const k = still(el, doc);
    if (k.skip) return;
    const hidden = k.none ? k.tag === 'INPUT' && (el.type === 'checkbox' || el.type === 'radio') && at.seen : false;
    if (k.none && !hidden) return;
    const r = el.getBoundingClientRect();
    const x = r.left + dx, y = r.top + dy, w = r.width, h = r.height;
    if (k.fixed) clip = holds(el, doc) ? clip : [0, 0, width, height];
    else if (k.absolute && at.loose) { const by = holds(el, doc); clip = by && inner.get(by) || [0, 0, width, height]; }
    if (hidden) return drawn(el, doc, k, depth, x, y, w, h, dx, dy, disabled, focus, at.lift);
    const part = k.cuts ? clipped(k.style, w, h) : null;
    if (part) clip = meet(clip, x + part[0], y + part[1], part[2], part[3]);
    if (k.clear < 1 || k.ground !== undefined) at = { seen: at.seen && at.clear * k.clear > faintest, clear: at.clear * k.clear, ground: k.ground === undefined ? at.ground : k.ground };
    disabled = disabled || k.disabled;
    let here = depth, mine = -1;
    const box = [++walked, walked], seen = k.seen && at.seen, before = painted; // box: what is in it is of these numbers
    if (k.lift > at.lift) at = { ...at, lift: k.lift };
    if (k.paints && seen && w > 0 && h > 0) painted++;
    if (k.covers && seen && !k.contents) {
      const c = meet(meet(clip, 0, 0, width, height), x, y, w, h);
      if (c[2] > 0 && c[3] > 0) boxes.push([c[0], c[1], c[0] + c[2], c[1] + c[3], box, k.through, at.lift, el]);
    }
    if (k.item && seen && w > 0) {
      const em = parseFloat(k.style.fontSize) || 16, inner = k.style.listStylePosition === 'inside' ? 0 : 1.6 * em;
      row(null, depth, '', '', '', k.item, '', x - inner, y, 1.5 * em, 1.2 * em, meet(clip, x - inner, y, 1.5 * em, 1.2 * em), 0, '');
    }
    if (k.told && !k.contents) {
      let v = seen ? meet(clip, x, y, w, h) : [0, 0, 0, 0];
      if (v[2] <= 0 || v[3] <= 0 || v[2] <= 1.5 && v[3] <= 1.5 && w + h > 0 && k.says || k.text !== '' && (v[2] < 2 || v[3] < 2)) v = [0, 0, 0, 0];
      // Words of the colour of what is behind them nobody reads; the box about them may be seen all the same.
      const inked = k.text !== '' && at.ground && k.ink === at.ground && !k.inside.some((c) => { const n = still(c, doc); return n.ink !== k.ink && !n.none && lineOf(c, doc, true).trim() !== ''; });
      const blank = inked && k.ground !== undefined && v[2] > 0;
      if (inked && k.ground === undefined && v[2] > 0 && unreadable(el, doc, at, v, dx, dy)) v = [0, 0, 0, 0];
      if (k.field && v[2] <= 0 && drawn(el, doc, k, depth, x, y, w, h, dx, dy, disabled, focus, at.lift)) return over(box);
      let touch = false, opaque = false;
      if (standins.has(el)) at = { ...at, standin: true };
      if (v[2] > 0 && !at.standin) { touch = k.pointer; opaque = touch && k.style.backgroundColor.startsWith('rgb('); }
      if (v[2] > 0) shown.push([out.length, box, el, doc, v, dx, dy, k, at.lift]);
      const faint = v[2] > 0 && k.says && at.clear < faintly;
      if (k.busy) busy = true;
      row(el, depth, k.role, k.id, k.name, blank ? '' : k.text, cut(k.editable ? el.innerText.replace(/\n$/, '') : k.valued ? valueOf(el, k.role) : ''), x, y, w, h, v, flagsOf(el, k, disabled, focus, opaque, touch) | (faint ? 256 : 0), k.whole || k.checks ? checkedOf(el, k.role) : '');
      here = depth + 1;
      mine = out.length - 1;
      if (k.end) return over(box, mine, before);
    }
    if (k.whole) return over(box);
    if ((k.ox || k.oy) && !k.edge && !k.inline && !k.contents) {
      clip = meet(clip, k.ox ? x : -1e6, k.oy ? y : -1e6, k.ox ? w : 2e6, k.oy ? h : 2e6);
      if (clip[2] < 0) clip[2] = 0;
      if (clip[3] < 0) clip[3] = 0;
      if (!k.placed && !at.loose) at = { ...at, loose: true };
    }
    if (k.placed || k.lift) { inner.set(el, clip); if (k.placed && at.loose) at = { ...at, loose: false }; }
    if (k.frame) {
      const content = contentOf(el), bx = x + el.clientLeft, by = y + el.clientTop;
      if (!content || !content.documentElement) {
        if (k.tag === 'IFRAME' || k.tag === 'FRAME') out[out.length - 1].push(yamatoFrame(el), r2(bx), r2(by), r2(el.clientWidth), r2(el.clientHeight));
        return over(box);
      }
      watch(content);
      if (content.readyState === 'loading') busy = true;
      walk(content.documentElement, content, here, meet(clip, bx, by, el.clientWidth, el.clientHeight), { ...at, ground: at.ground || 'rgb(255, 255, 255)' }, bx, by, disabled, active(content));
      return over(box);
    }
    if (k.veiled) at = { ...at, seen: false };
    for (const c of k.inside) walk(c, doc, here, clip, k.closed && c.tagName !== 'SUMMARY' ? { ...at, seen: false } : at, dx, dy, disabled, focus);
    over(box, mine, before);
  }
  // over notes which boxes lie in one: those until now. Where nothing of an element, or of what lies in it, is
  // drawn, nobody sees it.
  const over = (box, mine, before) => {
    box[1] = walked;
    if (mine >= 0 && painted === before) for (let i = 10; i < 14; i++) out[mine][i] = 0;
  };
  const row = (el, depth, role, id, name, text, value, x, y, w, h, v, flags, checked) =>
    elements.push(el) && out.push([depth, role, id, name, text, value, r2(x), r2(y), r2(w), r2(h), r2(v[0]), r2(v[1]), r2(Math.max(0, v[2])), r2(Math.max(0, v[3])), flags, checked]);
  const flagsOf = (el, k, disabled, focus, opaque, touch) => (disabled ? 1 : 0) | (el === focus ? 2 : 0) |
    (k.tag === 'CANVAS' && (k.name !== '' || k.text !== '') ? 128 : 0) |
    (k.selected || k.option && el.selected === true ? 4 : 0) | (k.busy ? 8 : 0) | (opaque ? 16 : 0) | (touch ? 32 : 0);

  // holds gives what an element that is taken out of the flow is placed, and clipped, by (CSS Positioned Layout 3,
  // 2.1), or nothing where that is the window.
  function holds(el, doc) {
    const fixed = getComputedStyle(el).position === 'fixed';
    for (let e = el.parentElement || el.getRootNode().host; e; e = e.parentElement || e.getRootNode().host) {
      const k = still(e, doc), s = k.style;
      if (k.placed && !fixed) return e;
      if (k.lift && (s.transform !== 'none' || s.filter !== 'none' || s.perspective !== 'none' || s.backdropFilter !== 'none' || s.translate !== 'none' ||
        s.rotate !== 'none' || s.scale !== 'none' || /paint|strict|content|layout/.test(s.contain) || /transform|filter|perspective/.test(s.willChange))) return e;
    }
    return null;
  }

  // drawn tells a field by what is drawn for it, and whether there is such a thing.
  function drawn(el, doc, k, depth, x, y, w, h, dx, dy, disabled, focus, lift) {
    const d = drawnBy(el, doc);
    if (!d && k.none) return false;
    if (!d) return false;
    if (k.none) {
      const role = el.type === 'radio' ? 'radio' : el.getAttribute('role') || 'checkbox';
      Object.assign(k, { role, id: el.id, name: fold(el.getAttribute('aria-label') || (el.labels && el.labels[0] ? el.labels[0].innerText : '')), text: '', says: true, pointer: true, whole: true });
      disabled = disabled || el.disabled;
    }
    painted++;
    standins.add(d.by).add(d.touch);
    const v = meet([0, 0, width, height], d.area[0] + dx, d.area[1] + dy, d.area[2], d.area[3]);
    if (v[2] > 0 && v[3] > 0) shown.push([out.length, [++walked, walked], el, doc, v, dx, dy, { ...k, drawn: d, says: true }, lift]);
    else v.fill(0);
    row(d.by, depth, k.role, k.id, k.name, k.text, cut(valueOf(el, k.role)), d.area[0] + dx, d.area[1] + dy, d.area[2], d.area[3], v, flagsOf(el, k, disabled, focus, false, v[2] > 0), checkedOf(el, k.role));
    return true;
  }

  // unreadable tells whether words are of the colour of what is behind them, and nothing else is: pictures
  // may lie between.
  function unreadable(el, doc, at, v, dx, dy) {
    const all = doc.elementsFromPoint(v[0] - dx + v[2] / 2, v[1] - dy + v[3] / 2);
    let behind = !all.some((top) => top === el || el.contains(top)); // what lies over the words is none of their ground
    for (const top of all) {
      if (top === el || el.contains(top)) { behind = true; continue; }
      if (!behind) continue;
      const s = getComputedStyle(top);
      if (/^(IMG|VIDEO|CANVAS|IFRAME|svg)$/.test(top.tagName) || s.backgroundImage !== 'none') return false;
      if (!transparent(s.backgroundColor)) return s.backgroundColor === at.ground;
    }
    return true;
  }

  // judge has what is covered not be seen. Where no other box lies over an element's middle
  // nothing can cover it, and the browser need not be asked, which is slow in long pages.
  function judge() {
    for (const one of shown) {
      const [, [from, to], , , v, , , k, lift] = one;
      const cx = v[0] + v[2] / 2, cy = v[1] + v[3] / 2;
      let doubt = false, part = false, through = k.through;
      for (let j = 0; j < boxes.length && !(doubt && through); j++) {
        const b = boxes[j], [begins, ends] = b[4];
        if (begins >= from && begins <= to || begins < from && ends >= from) continue; // in it, or around it
        if (k.drawn && (b[7].contains(k.drawn.by) || k.drawn.touch.contains(b[7]))) continue;
        if (begins < from ? b[6] === 0 && lift !== 2 : b[6] === 0 && lift === 1) continue; // drawn before it
        if (v[0] + v[2] <= b[0] + 1 || v[0] >= b[2] - 1 || v[1] + v[3] <= b[1] + 1 || v[1] >= b[3] - 1) continue;
        part = true;
        if (b[5]) through = true;
        doubt = doubt || cx >= b[0] && cx < b[2] && cy >= b[1] && cy < b[3];
      }
      if (part && through) { own.push([one, doubt]); continue; } // fingers reach through what eyes do not, or the other way round
      decide(one, part, doubt, true);
    }
    if (own.length === 0) return;
    // What eyes see is asked with everything taking touches, for this moment.
    const docs = new Set(own.map(([one]) => one[3]));
    const put = [...docs].map((d) => { const s = new d.defaultView.CSSStyleSheet(); s.replaceSync('* { pointer-events: auto !important }'); const was = [...d.adoptedStyleSheets]; d.adoptedStyleSheets = [...was, s]; return [d, was]; });
    try { for (const [one, doubt] of own) decide(one, true, doubt, false); } finally { for (const [d, was] of put) d.adoptedStyleSheets = was; }
  }
  let half = false; // something half clear lay over what was asked for last
  const veils = (e) => { const s = getComputedStyle(e), m = /^rgba\(.*, ([0-9.]+)\)$/.exec(s.backgroundColor); return clarity(s) * (m ? Number(m[1]) : solid(s.backgroundColor) ? 1 : 0) > 0.25; };
  function decide([at, , el, doc, v, dx, dy, k], part, doubt, touches) {
    half = false;
    if (part && k.says && partly(el, doc, v, dx, dy, k)) out[at][14] |= 64;
    if (!doubt) return;
    const hit = meets(el, doc, v, dx, dy, k);
    if (half && k.says) out[at][14] |= 256;
    if (hit > 0) return;
    if (touches || hit === 0) out[at][14] &= ~48; // it takes no touches, and hides nothing
    if (hit === 0) for (let i = 10; i < 14; i++) out[at][i] = 0;
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
    if (k.drawn && (k.drawn.by.contains(top) || k.drawn.touch.contains(top) || top.contains(k.drawn.by))) return true;
    if (top.contains(el)) return !k.says || k.through || top.tagName === 'LABEL' || inlineOf(el, top);
    if (top.tagName === 'LABEL' && top.control === el) return true;
    for (let e = top; e && !e.contains(el); e = e.parentElement) if (hides(e)) return false;
    for (const e of (root.elementsFromPoint || doc.elementsFromPoint).call(root.elementsFromPoint ? root : doc, px, py)) {
      if (e === el || el.contains(e) || e.contains(el)) break;
      if (hides(e)) return false;
      if (veils(e)) half = true;
    }
    return true; // one sees through all that lies over it
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
    const s = getComputedStyle(e);
    if (clarity(s) <= 0.5) return false;
    if (e.tagName === 'IMG' || e.tagName === 'VIDEO' || e.tagName === 'CANVAS' || e.tagName === 'IFRAME') return true;
    const alpha = /^rgba\(.*, ([0-9.]+)\)$/.exec(s.backgroundColor);
    return s.backgroundImage !== 'none' || !transparent(s.backgroundColor) && (!alpha || Number(alpha[1]) > 0.5);
  };
  const inlineOf = (el, top) => {
    for (let e = el; e && e !== top; e = e.parentElement) {
      if (getComputedStyle(e).pointerEvents === 'none' || getComputedStyle(e).display.startsWith('inline')) return true;
    }
    return false;
  };

  const r2 = (n) => Math.round(n * zoom * 10) / 10;
  const ground = { seen: true, clear: 1, ground: 'rgb(255, 255, 255)', lift: 0, loose: false };
  if (document.documentElement) walk(document.documentElement, document, 1, [0, 0, width, height], ground, -port.offsetLeft, -port.offsetTop, false, active(document));
  judge();
  wasBusy = busy;
  wasCalm = !!document.querySelector('html[aria-busy=false],body[aria-busy=false]');
  const picked = pickerNow();
  // Told is what differs from what was told before: most changes are of a few elements.
  const lines = out.map((row) => JSON.stringify(row)), before = sent, n = Math.min(lines.length, before.length);
  let from = 0, rest = 0;
  while (from < n && lines[from] === before[from]) from++;
  if (began && picked === wasPicked && from === lines.length && from === before.length) return JSON.stringify({ moment, revision, busy, calm: wasCalm, rests: rests(animated), wants: wants && fits(), same: true });
  while (rest < n - from && lines[lines.length - 1 - rest] === before[before.length - 1 - rest]) rest++;
  sent = lines;
  began = true;
  wasPicked = picked;
  revision++;
  return `{"moment":${JSON.stringify(moment)},"revision":${revision},"busy":${busy},"calm":${wasCalm},"rests":${rests(animated)},"wants":${wants && fits()},"zoom":${zoom},"layout":${layoutWidth()},"title":${JSON.stringify(cut(document.title))},"picker":${picked},"had":${before.length},"from":${from},"until":${before.length - rest},"elements":[${lines.slice(from, lines.length - rest).join()}]}`;
}

// layoutWidth is how wide a phone lays the document out, whatever its screen is (CSS Viewport 1, 3; 980 where nothing
// is said is what phones agree on); 0 for as wide as the screen.
function layoutWidth() {
  const metas = document.querySelectorAll('meta[name=viewport i]');
  if (metas.length === 0) return 980;
  const said = metas[metas.length - 1].content || '', width = /(?:^|[\s,;])width\s*=\s*([^\s,;]+)/i.exec(said);
  if (!width) return /initial-scale\s*=/i.test(said) ? 0 : 980;
  const n = Number(width[1]);
  return n >= 200 && n <= 10000 ? Math.round(n) : 0;
}
const contentOf = (el) => { try { return el.contentDocument; } catch (_) { return null; } };
// yamatoFrame gives the number that a frame goes by whose document cannot be read from here.
globalThis.yamatoFrame = (el) => { if (!frames.has(el)) frames.set(el, frames.size + 1); return frames.get(el); };

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
globalThis.yamatoLook = (afresh) => { if (afresh) { settle(); forgetAll(); sent = []; began = false; dirty = true; } return look(); };
// yamatoHeld has a page know of a finger that stays, as phones tell it; a browser without a touch screen does not.
globalThis.yamatoHeld = (x, y) => {
  const el = document.elementFromPoint(x, y);
  if (el) el.dispatchEvent(new PointerEvent('contextmenu', { bubbles: true, cancelable: true, composed: true, clientX: x, clientY: y, pointerType: 'touch', isPrimary: true }));
  return '';
};
// yamatoDraggable tells whether the system drags what is at a place.
globalThis.yamatoDraggable = (x, y) => { const el = document.elementFromPoint(x, y); return el && el.closest('[draggable=true]') ? 'yes' : ''; };
// yamatoEnds takes away what an app keeps with its page, and not with its origin.
globalThis.yamatoEnds = () => { window.name = ''; try { sessionStorage.clear(); } catch (_) { /* it has none */ } return ''; };
globalThis.yamatoForget = () => { forgetAll(); sent = []; began = false; dirty = true; return ''; };
globalThis.yamatoAsks = () => { asks = true; forgetAll(); return ''; };
watch(document);
// yamatoFrameAt gives the window of a frame by the number that it goes by.
globalThis.yamatoFrameAt = (n) => { for (const [el, m] of frames) if (m === n && el.isConnected) return el.contentWindow; return null; };
// yamatoFrameNumbered gives the frame itself.
globalThis.yamatoFrameNumbered = (n) => { for (const [el, m] of frames) if (m === n && el.isConnected) return el; return null; };
// yamatoBehind tells whether there is a page of the app's behind the one that is shown.
globalThis.yamatoBehind = () => (globalThis.navigation ? navigation.canGoBack : history.length > 1);
// yamatoInsert enters a text where the focus is, as an input method does: "entered", or "elsewhere" where that is in
// a document which cannot be read from here, "" where nothing takes it.
globalThis.yamatoInsert = (text) => {
  let el = document.activeElement, doc = document;
  for (;;) {
    if (el && el.shadowRoot && el.shadowRoot.activeElement) el = el.shadowRoot.activeElement;
    else if (el && /^I?FRAME$/.test(el.tagName)) {
      if (!contentOf(el)) return 'elsewhere';
      doc = contentOf(el);
      el = doc.activeElement;
    } else break;
  }
  if (!el || !(el.isContentEditable || /^(INPUT|TEXTAREA)$/.test(el.tagName)) || el.disabled || el.readOnly) return '';
  return doc.execCommand('insertText', false, text) ? 'entered' : 'elsewhere';
};
