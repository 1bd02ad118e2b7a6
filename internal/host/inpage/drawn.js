// What a person reads: the text of elements as it is drawn, and which elements are drawn at all.

const longest = 2000; // characters of one text
const fold = (s) => s.replace(/\s+/g, ' ').trim();
const cut = (s) => (s.length > longest ? s.slice(0, longest) + '…' : s);

// Signs that nobody sees, or that are pictures out of a font: soft hyphens, blanks of no width, private use.
const unseenSigns = /[\u00AD\u200B\u2060\uFEFF\uE000-\uF8FF]|[\u{F0000}-\u{10FFFD}]/gu;
const someUnseen = /[\u00AD\u200B\u2060\uFEFF\uDB80-\uDBFF\uE000-\uF8FF]/;
const plainSigns = (s) => (someUnseen.test(s) ? s.replace(unseenSigns, '') : s);

// letters gives a text as its style draws it (CSS Text 3, 2.1; CSS Overflow 4 is not looked at).
function letters(data, k) {
  const s = plainSigns(data);
  if (k.hides || k.nothing) return '';
  switch (k.transform) {
    case 'uppercase': return s.toLocaleUpperCase(k.language || undefined);
    case 'lowercase': return s.toLocaleLowerCase(k.language || undefined);
    case 'capitalize': return s.replace(/(^|[\s\p{P}])(\p{L})/gu, (_, b, l) => b + l.toLocaleUpperCase(k.language || undefined));
    case 'full-width': return s.replace(/[!-~]/g, (c) => String.fromCharCode(c.charCodeAt(0) + 0xFEE0));
  }
  return k.dots ? '•'.repeat([...s].length) : s;
}

// Words that stand in a line even where their box is made a block by what they lie in (CSS Flexbox 1, 4).
const phrase = new Set(['A', 'ABBR', 'B', 'BDI', 'BDO', 'CITE', 'CODE', 'DATA', 'DEL', 'DFN', 'EM', 'FONT', 'I', 'INS', 'KBD', 'LABEL',
  'MARK', 'OUTPUT', 'Q', 'S', 'SAMP', 'SMALL', 'SPAN', 'STRONG', 'SUB', 'SUP', 'TIME', 'TT', 'U', 'VAR']);

// inline tells whether what is in an element stands in the lines of what is around it.
const inline = (k, el) => k.inline || k.contents || phrase.has(el.tagName);

// lineOf is what is drawn in the lines of an element: its own words and those of what stands among them,
// whatever role or id that has. blocks has what stands in blocks of its own be read too.
function lineOf(el, doc, blocks) {
  const k = still(el, doc);
  const key = blocks ? 'whole_' : 'line_';
  if (k[key] !== undefined) return k[key];
  let s = k.before;
  for (const c of k.kids) {
    if (c.nodeType === 3) { s += letters(c.data, k); continue; }
    if (c.nodeType !== 1) continue;
    const n = still(c, doc);
    if (n.skip || n.none || n.gone || n.tag === 'BR' || n.whole || n.frame || n.veiled) { s += n.tag === 'BR' ? ' ' : ''; continue; }
    if (k.closed && n.tag !== 'SUMMARY') continue;
    if (inline(n, c) || n.tag === 'tspan' || n.tag === 'textPath') s += lineOf(c, doc, blocks);
    else s += blocks ? ' ' + lineOf(c, doc, true) + ' ' : ' ';
    if (s.length > 4 * longest) break;
  }
  s += k.after;
  return (k[key] = s);
}

// ownWords gives the words that stand in an element itself, not in what lies in it.
function ownWords(el, k, doc) {
  let own = '';
  for (const c of k.kids) {
    if (c.nodeType === 3) own += letters(c.data, k);
    else if (c.nodeType === 1 && c.tagName === 'SLOT') { const n = still(c, doc); if (n.contents) own += ownWords(c, n, doc); }
  }
  return own;
}

// generated is what a style writes before or after what is in an element (CSS Generated Content 3), where
// it is words or figures: signs alone are ornament.
function generated(el, which, doc) {
  const s = doc.defaultView.getComputedStyle(el, which), content = s.content;
  if (!content || content === 'none' || content === 'normal' || s.display === 'none' || s.visibility !== 'visible' ||
    Number(s.opacity) <= faintest || parseFloat(s.fontSize) < 1 || transparent(s.webkitTextFillColor)) return '';
  let out = '';
  for (const m of content.matchAll(/"((?:[^"\\]|\\.)*)"|counters?\(([^)]*)\)|attr\(\s*([\w-]+)[^)]*\)/g)) {
    if (m[1] !== undefined) out += m[1].replace(/\\([0-9a-fA-F]{1,6})\s?|\\(.)/g, (_, hex, c) => (hex ? String.fromCodePoint(parseInt(hex, 16)) : c));
    else if (m[2] !== undefined) out += countedBy(el, which, m[2], /^counters/.test(m[0]), doc);
    else out += el.getAttribute(m[3]) || '';
  }
  out = plainSigns(out);
  if (/^\s*[-−–]\s*$/.test(out)) return which === '::before' && /^\s*[\d\p{Sc}]/u.test(el.textContent) ? out : '';
  return /[\p{L}\p{N}\p{Sc}%‰°]/u.test(out) ? out : '';
}

// ornamented tells whether a style draws something before or after what is in an element.
function ornamented(el, doc) {
  return ['::before', '::after'].some((p) => {
    const s = doc.defaultView.getComputedStyle(el, p);
    return s.content !== 'none' && s.content !== 'normal' && s.display !== 'none' && s.visibility === 'visible' && Number(s.opacity) > faintest &&
      (/[^"\s]/.test(s.content) || s.backgroundImage !== 'none' || !transparent(s.backgroundColor) || s.borderTopStyle !== 'none' || s.borderBottomStyle !== 'none' || s.borderLeftStyle !== 'none');
  });
}

// Counters (CSS Lists 3, 4): what each is worth at an element is reckoned over the document, once a look.
let counted = new Map(); // document to element to name to the values in scope
function countersOf(doc) {
  let all = counted.get(doc);
  if (all) return all;
  counted.set(doc, all = new Map());
  const pairs = (text, usual) => {
    const out = [], words = text === 'none' ? [] : text.split(/\s+/);
    for (let i = 0; i < words.length; i++) {
      const reversed = /^reversed\((.*)\)$/.exec(words[i]);
      const n = /^-?\d+$/.test(words[i + 1] || '') ? Number(words[++i]) : usual;
      out.push([reversed ? reversed[1] : words[words.length > i && /^-?\d+$/.test(words[i]) ? i - 1 : i], n]);
    }
    return out;
  };
  let room = 20000;
  // scope: name to a list of {value, depth}, the innermost last. What is made among siblings is seen by those after.
  const scope = new Map();
  (function visit(el, depth) {
    if (--room < 0) return;
    const s = doc.defaultView.getComputedStyle(el);
    if (s.display === 'none') return;
    const apply = (style, at) => {
      for (const [name, n] of pairs(style.counterReset, 0)) {
        const list = scope.get(name) || scope.set(name, []).get(name);
        while (list.length && list[list.length - 1].depth >= at) list.pop();
        list.push({ value: n, depth: at });
      }
      const change = (name, how) => {
        const list = scope.get(name) || scope.set(name, []).get(name);
        if (!list.length) list.push({ value: 0, depth: at });
        how(list[list.length - 1]);
      };
      for (const [name, n] of pairs(style.counterIncrement, 1)) change(name, (c) => { c.value += n; });
      for (const [name, n] of pairs(style.counterSet, 0)) change(name, (c) => { c.value = n; });
    };
    apply(s, depth);
    const at = (pseudo) => {
      if (pseudo) { const p = doc.defaultView.getComputedStyle(el, pseudo); if (p.content !== 'none' && p.content !== 'normal') apply(p, depth + 1); }
      const now = {};
      for (const [name, list] of scope) if (list.length) now[name] = list.map((c) => c.value);
      return now;
    };
    const before = at('::before');
    for (const c of el.children) visit(c, depth + 1);
    all.set(el, { '::before': before, '::after': at('::after') });
    for (const list of scope.values()) while (list.length && list[list.length - 1].depth > depth) list.pop();
  })(doc.documentElement, 0);
  return all;
}
function countedBy(el, which, args, every, doc) {
  const [name, second, third] = args.split(',').map((a) => a.trim());
  const at = countersOf(doc).get(el), values = (at && at[which][name]) || [0];
  const style = (every ? third : second) || 'decimal';
  if (!every) return numeral(values[values.length - 1], style);
  return values.map((v) => numeral(v, style)).join(second ? second.replace(/^"|"$/g, '') : '');
}

// numeral writes a number as a style of lists does (CSS Counter Styles 3, 6), "" for signs that are no figures.
function numeral(n, style) {
  const letter = (a) => { let s = ''; for (let i = n; i > 0; i = Math.floor((i - 1) / 26)) s = String.fromCharCode(a + ((i - 1) % 26)) + s; return s || String(n); };
  switch (style) {
    case 'none': case 'disc': case 'circle': case 'square': case 'disclosure-open': case 'disclosure-closed': return '';
    case 'decimal-leading-zero': return n < 10 && n > -1 ? '0' + n : String(n);
    case 'lower-alpha': case 'lower-latin': return letter(97);
    case 'upper-alpha': case 'upper-latin': return letter(65);
    case 'lower-roman': case 'upper-roman': {
      if (n < 1 || n > 3999) return String(n);
      let s = '', rest = n;
      for (const [v, sign] of [[1000, 'm'], [900, 'cm'], [500, 'd'], [400, 'cd'], [100, 'c'], [90, 'xc'], [50, 'l'], [40, 'xl'], [10, 'x'], [9, 'ix'], [5, 'v'], [4, 'iv'], [1, 'i']]) {
        while (rest >= v) { s += sign; rest -= v; }
      }
      return style === 'upper-roman' ? s.toUpperCase() : s;
    }
  }
  return String(n);
}

// markerOf is the figure or word that stands before a list's item, "" for none or a mere sign.
function markerOf(el, style, doc) {
  if (writes) {
    const own = doc.defaultView.getComputedStyle(el, '::marker').content;
    if (own && own !== 'normal' && own !== 'none') { const s = generated(el, '::marker', doc); if (s) return fold(s); }
  }
  const type = style.listStyleType;
  if (type === 'disc' || type === 'none') return '';
  if (style.listStyleImage !== 'none' || type === 'none') return '';
  const text = /^"(.*)"$/.exec(type);
  if (text) return /[\p{L}\p{N}]/u.test(text[1]) ? fold(text[1]) : '';
  const list = el.parentNode;
  if (!list || list.tagName !== 'OL') return '';
  const s = numeral(numbersOf(list).get(el), type);
  return s && s + '.';
}

// numbersOf are the numbers of a list's items (HTML 4.4.8), reckoned once a look.
let numbered = new Map();
function numbersOf(list) {
  let all = numbered.get(list);
  if (all) return all;
  numbered.set(list, all = new Map());
  const step = list.reversed ? -1 : 1;
  let n = list.hasAttribute('start') ? list.start : list.reversed ? [...list.children].filter((c) => c.tagName === 'LI').length : 1;
  for (const c of list.children) {
    if (c.tagName !== 'LI') continue;
    if (c.hasAttribute('value')) n = c.value;
    all.set(c, n);
    n += step;
  }
  return all;
}

// faintest is the opacity at and below which nobody sees a thing.
const faintest = 0.1;
// faintly is the opacity below which some may not.
const faintly = 0.4;
const transparent = (colour) => colour === 'transparent' || /^rgba\(.*, 0(\.0\d*)?\)$/.test(colour);
const solid = (colour) => /^rgb\(/.test(colour) || /^color\([^/]*\)$/.test(colour) || /^(ok)?l(ab|ch)\([^/]*\)$/.test(colour);

// clarity is how much of an element is there, from its opacity and its filter (Filter Effects 1).
function clarity(style) {
  let o = Number(style.opacity);
  if (style.filter !== 'none') for (const m of style.filter.matchAll(/opacity\(([\d.]+)(%?)\)/g)) o *= Number(m[1]) / (m[2] ? 100 : 1);
  return o;
}

// clipped gives the part of a box that a style leaves of it (CSS Masking 1: clip-path, clip), relative to
// the box, or nothing where it leaves all or nobody can tell.
function clipped(style, w, h) {
  const len = (t, of) => (t === undefined ? 0 : t.endsWith('%') ? (parseFloat(t) / 100) * of : parseFloat(t) || 0);
  if (style.clip !== 'auto' && (style.position === 'absolute' || style.position === 'fixed')) {
    const m = /^rect\((\S+?),? (\S+?),? (\S+?),? (\S+?)\)$/.exec(style.clip);
    if (m) { const [t, r, b, l] = m.slice(1).map((v, i) => (v === 'auto' ? [0, w, h, 0][i] : parseFloat(v))); return [l, t, r - l, b - t]; }
  }
  const path = style.clipPath;
  if (!path || path === 'none') return null;
  const m = /^(\w+)\((.*)\)/.exec(path);
  if (!m) return null;
  const words = m[2].split(/ round /)[0].trim().split(/\s+/);
  switch (m[1]) {
    case 'inset': {
      const [t, r = t, b = t, l = r] = words;
      return [len(l, w), len(t, h), w - len(l, w) - len(r, w), h - len(t, h) - len(b, h)];
    }
    case 'circle': case 'ellipse': {
      const at = m[2].split(' at '), c = (at[1] || '50% 50%').trim().split(/\s+/), r = (at[0] || '').trim().split(/\s+/);
      if (!/^[\d.]/.test(r[0])) return null;
      const rx = len(r[0], m[1] === 'circle' ? Math.hypot(w, h) / Math.SQRT2 : w), ry = m[1] === 'circle' ? rx : len(r[1], h);
      return [len(c[0], w) - rx, len(c[1], h) - ry, 2 * rx, 2 * ry];
    }
    case 'polygon': {
      const points = m[2].replace(/^(nonzero|evenodd),\s*/, '').split(',').map((p) => p.trim().split(/\s+/));
      if (points.some((p) => p.length !== 2 || p.some((v) => /calc/.test(v)))) return null;
      const xs = points.map((p) => len(p[0], w)), ys = points.map((p) => len(p[1], h));
      return [Math.min(...xs), Math.min(...ys), Math.max(...xs) - Math.min(...xs), Math.max(...ys) - Math.min(...ys)];
    }
  }
  return null;
}
