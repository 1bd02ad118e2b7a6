// Controls: what they hold, and by what they are drawn where it is not by themselves.

function valueOf(el, role) {
  switch (el.tagName) {
    case 'INPUT':
      if (['checkbox', 'radio', 'button', 'submit', 'reset', 'image'].includes(el.type)) return '';
      if (el.type === 'file') return [...el.files].map((f) => f.name).join(', ');
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

// area is where an element is to be seen, as far as what it lies in shows it: left, top, width, height.
function area(el) {
  const r = el.getBoundingClientRect();
  let a = [r.left, r.top, r.right, r.bottom];
  let loose = false; // placed by something farther out: what it lies in meanwhile does not clip it
  for (let e = el; e; e = e.parentElement || (e.getRootNode().host || null)) {
    const s = getComputedStyle(e);
    if (s.position !== 'static' || s.transform !== 'none') loose = false;
    if (s.display === 'none' || e === el && s.visibility !== 'visible' || clarity(s) <= faintest) return null;
    if (e !== el && !loose && s.overflow !== 'visible' && e !== e.ownerDocument.body && e !== e.ownerDocument.documentElement) {
      const b = e.getBoundingClientRect();
      a = [Math.max(a[0], b.left), Math.max(a[1], b.top), Math.min(a[2], b.right), Math.min(a[3], b.bottom)];
    }
    if (s.position === 'fixed') break;
    loose = loose || s.position === 'absolute';
  }
  return a[2] - a[0] > 2 && a[3] - a[1] > 2 ? [a[0], a[1], a[2] - a[0], a[3] - a[1]] : null;
}

// paints tells whether something of an element itself, or of what lies in it, is drawn.
function paints(el, doc) {
  const s = getComputedStyle(el);
  if (s.backgroundImage !== 'none' || !transparent(s.backgroundColor) || s.boxShadow !== 'none') return true;
  if (['Top', 'Right', 'Bottom', 'Left'].some((d) => s['border' + d + 'Style'] !== 'none' && parseFloat(s['border' + d + 'Width']) > 0)) return true;
  if (/^(IMG|CANVAS|VIDEO|svg)$/.test(el.tagName)) return true;
  for (const p of ['::before', '::after']) {
    const g = getComputedStyle(el, p);
    if (g.content !== 'none' && g.content !== 'normal' && (parseFloat(g.width) > 2 || /\S/.test(g.content.replace(/"/g, '')))) return true;
  }
  return [...el.children].some((c) => paints(c, doc));
}

// drawnBy gives what a control is drawn by whose real field is see-through, off to the side or not there:
// what takes its place for the eye, and for the finger. null where it is drawn by itself, or by nothing.
function drawnBy(el, doc) {
  const labels = el.labels ? [...el.labels] : [];
  const around = el.closest('label');
  if (around && !labels.includes(around)) labels.push(around);
  const seen = labels.filter((l) => area(l));
  const boxes = [];
  for (const n of [el.nextElementSibling, el.previousElementSibling]) if (n && n.tagName !== 'INPUT') boxes.push(n);
  const own = el.getBoundingClientRect();
  for (const n of boxes) {
    const a = area(n);
    if (!a || !paints(n, doc)) continue;
    const touches = seen.some((l) => l.contains(n)) || own.width > 8 && own.height > 8 && own.left < a[0] + a[2] && own.right > a[0] && own.top < a[1] + a[3] && own.bottom > a[1];
    if (touches) return { by: n, touch: labels.find((l) => l.contains(n)) || n, area: a };
  }
  for (const l of seen) return { by: l, touch: l, area: area(l) };
  if (own.width > 8 && own.height > 8) { // it lies, unseen, over what is drawn for it
    const p = el.parentElement, a = p && area(p);
    if (a && a[2] < 3 * own.width && a[3] < 3 * own.height && paints(p, doc) && own.left < a[0] + a[2] && own.right > a[0] && own.top < a[1] + a[3] && own.bottom > a[1]) return { by: p, touch: p, area: a };
  }
  if (el.matches('[role=combobox],[aria-haspopup=listbox]')) { // what was chosen is drawn in its place, about it
    const p = el.parentElement, a = p && area(p);
    if (a && a[3] < 200 && paints(p, doc)) return { by: p, touch: p, area: a };
  }
  return null;
}

// optionsOf gives the options of a list that is drawn in the page, not brought up when it is touched.
const isList = (el) => el.tagName === 'SELECT' && (el.multiple || el.size > 1);

// A list of options that the browser itself would bring up over the page is a question of the handset's: it
// is not brought up, and what it offers is told (picker). One at a time, until something is chosen.
let picking = null;
const opens = (el) => el && el.tagName === 'SELECT' && !isList(el) && !el.disabled;
function pickerNow() {
  if (picking && (!picking.isConnected || picking.disabled)) picking = null;
  if (!picking) return 'null';
  const f = still(picking, picking.ownerDocument);
  return JSON.stringify({ name: f.name || fold(picking.getAttribute('aria-label') || ''), options: [...picking.options].slice(0, 2000).map((o) => [cut(fold(o.label)), o.parentNode.tagName === 'OPTGROUP' ? cut(fold(o.parentNode.label)) : '',
    o.disabled || o.parentNode.tagName === 'OPTGROUP' && o.parentNode.disabled, o.selected]).filter((_, i) => !picking.options[i].hidden) });
}
const changedBy = (el) => { for (const kind of ['input', 'change']) el.dispatchEvent(new Event(kind, { bubbles: true, composed: kind === 'input' })); };
function listenForLists(view) {
  for (const kind of ['pointerdown', 'pointerup']) {
    view.addEventListener(kind, (e) => { // a finger on a line has the focus there
      const at = e.composedPath()[0];
      if (e.isTrusted && at && at.tagName === 'INPUT' && (at.type === 'range' || at.type === 'color') && !at.disabled) at.focus({ preventScroll: true });
    }, { capture: true, passive: true });
  }
  view.addEventListener('mousedown', (e) => {
    const at = e.composedPath ? e.composedPath()[0] : e.target;
    if (!e.isTrusted || !at || !at.closest) return;
    const list = at.closest('select');
    if (opens(list)) { e.preventDefault(); list.focus({ preventScroll: true }); picking = list; changed(); return; }
    // On a touch screen each touch takes an option of a list of several, or gives it back.
    const option = list && at.closest('option');
    if (list && list.multiple && option && !option.disabled && !list.disabled) {
      e.preventDefault();
      list.focus({ preventScroll: true });
      option.selected = !option.selected;
      changedBy(list);
      changed();
    }
  }, { capture: true });
}
// yamatoPick chooses one of what is offered; -1 leaves it as it is.
globalThis.yamatoPick = (n) => {
  const list = picking, open = list && [...list.options].filter((o) => !o.hidden)[n];
  picking = null;
  changed();
  if (!open || open.disabled || open.parentNode.disabled) return '';
  if (!open.selected) { open.selected = true; changedBy(list); }
  return '';
};

// yamatoEnter has a field that is not typed into letter by letter hold a value: a date, a time, a colour, a
// number on a line. It gives "" where the field in focus is none of those, "entered", or why it cannot be.
globalThis.yamatoEnter = (text, language) => {
  let el = document.activeElement;
  for (;;) {
    if (el && el.shadowRoot && el.shadowRoot.activeElement) el = el.shadowRoot.activeElement;
    else if (el && el.tagName === 'IFRAME' && contentOf(el)) el = contentOf(el).activeElement;
    else break;
  }
  if (!el || el.tagName !== 'INPUT') return '';
  const say = read[el.type];
  if (!say) return '';
  const value = say(text.trim(), language, el);
  if (value.why) return value.why;
  const before = el.value;
  el.value = value;
  if (el.value === '' && value !== '') { el.value = before; return `it takes ${forms[el.type]}, and ${JSON.stringify(text)} is none`; }
  if (el.value !== before) changedBy(el);
  changed();
  return 'entered';
};
const forms = { date: 'a date such as 2026-05-31', time: 'a time such as 09:40', month: 'a month such as 2026-05', week: 'a week such as 2026-W22',
  'datetime-local': 'a date and a time such as 2026-05-31 09:40', color: 'a colour such as #1d4e6b', range: 'a number' };
const two = (n) => String(n).padStart(2, '0');
function readDate(text, language) {
  let m = /^(\d{4})-(\d{1,2})-(\d{1,2})$/.exec(text);
  if (m) return `${m[1]}-${two(m[2])}-${two(m[3])}`;
  m = /^(\d{1,4})\D+(\d{1,4})\D+(\d{1,4})\D*$/.exec(text);
  if (!m) return text;
  const order = new Intl.DateTimeFormat(language, { numberingSystem: 'latn', calendar: 'gregory' }).formatToParts(new Date(2026, 4, 31)).filter((p) => /^(day|month|year)$/.test(p.type)).map((p) => p.type);
  const at = Object.fromEntries(order.map((o, i) => [o, m[i + 1]]));
  return `${at.year.length <= 2 ? '20' + two(at.year) : at.year}-${two(at.month)}-${two(at.day)}`;
}
function readTime(text) {
  const m = /^(\d{1,2})[:.](\d{2})(?:[:.](\d{2}))?\s*([ap])?\.?m?\.?$/i.exec(text);
  if (!m) return text;
  const hour = m[4] ? (Number(m[1]) % 12) + (/p/i.test(m[4]) ? 12 : 0) : Number(m[1]);
  return `${two(hour)}:${m[2]}${m[3] ? ':' + m[3] : ''}`;
}
const read = {
  date: readDate,
  time: readTime,
  month: (t) => { const m = /^(\d{1,2})\D+(\d{4})$/.exec(t); return m ? `${m[2]}-${two(m[1])}` : t; },
  week: (t) => t.toUpperCase().replace(/\s/g, ''),
  'datetime-local': (t, language) => { const m = /^(\S+?)(?:T|,?\s+)(\d{1,2}[:.].*)$/.exec(t); return m ? readDate(m[1], language) + 'T' + readTime(m[2]) : t; },
  color: (t) => {
    if (/^#[0-9a-f]{6}$/i.test(t)) return t.toLowerCase();
    if (/^#[0-9a-f]{3}$/i.test(t)) return '#' + [...t.slice(1)].map((c) => c + c).join('').toLowerCase();
    return CSS.supports('color', t) ? hexOf(t) : { why: `it takes ${forms.color}, and ${JSON.stringify(t)} is none` };
  },
  range: (t, _, el) => {
    const n = Number(t), low = Number(el.min || 0), high = Number(el.max || 100);
    if (t === '' || !Number.isFinite(n)) return { why: `it takes a number, and ${JSON.stringify(t)} is none` };
    if (n < low || n > high) return { why: `it takes a number from ${low} to ${high}, and not ${t}` };
    return String(n);
  },
};
function hexOf(colour) {
  const c = new OffscreenCanvas(1, 1).getContext('2d');
  c.fillStyle = colour;
  return c.fillStyle;
}
