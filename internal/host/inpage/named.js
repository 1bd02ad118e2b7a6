// Roles and names of elements in browsers that do not tell pages what their accessibility tree has: as HTML-AAM 1.0
// (4.1) maps elements, and Accessible Name and Description Computation 1.2 (4.3.2) computes names.

const sectioning = 'article,aside,main,nav,section,[role=article],[role=complementary],[role=main],[role=navigation],[role=region]';
const native = !ownNames && 'computedRole' in Element.prototype;
const byType = { button: 'button', checkbox: 'checkbox', color: '', date: '', 'datetime-local': '', email: 'textbox', image: 'button', month: '', number: 'spinbutton',
  password: 'textbox', radio: 'radio', range: 'slider', reset: 'button', search: 'searchbox', submit: 'button', tel: 'textbox', text: 'textbox', time: '', url: 'textbox', week: '' };
const byElement = { ARTICLE: 'article', BLOCKQUOTE: 'blockquote', BUTTON: 'button', CANVAS: 'img', DATALIST: 'listbox', DD: 'definition', DETAILS: 'group', DFN: 'term',
  DIALOG: 'dialog', DT: 'term', FIELDSET: 'group', FIGURE: 'figure', HGROUP: 'group', H1: 'heading', H2: 'heading', H3: 'heading', H4: 'heading', H5: 'heading', H6: 'heading', HR: 'separator',
  MAIN: 'main', MENU: 'list', METER: 'meter', NAV: 'navigation', OL: 'list', OPTGROUP: 'group', OPTION: 'option', OUTPUT: 'status', PROGRESS: 'progressbar', SEARCH: 'search',
  TABLE: 'table', TBODY: 'rowgroup', TEXTAREA: 'textbox', TFOOT: 'rowgroup', THEAD: 'rowgroup', UL: 'list' };

// roleOf gives an element's role, "" where it is kept from assistive technology.
function roleOf(el) {
  const tag = el.tagName;
  if (el.closest('[aria-hidden=true]')) return '';
  return mapped(el, tag) || 'generic';
}
function mapped(el, tag) {
  switch (tag) {
    case 'A': case 'AREA': return el.hasAttribute('href') ? 'link' : '';
    case 'ASIDE': return el.parentElement && el.parentElement.closest(sectioning.replace('main,', '').replace('[role=main],', '')) && !labelOf(el) ? '' : 'complementary';
    case 'HEADER': return el.parentElement && el.parentElement.closest(sectioning) ? '' : 'banner';
    case 'FOOTER': return el.parentElement && el.parentElement.closest(sectioning) ? '' : 'contentinfo';
    case 'FORM': return labelOf(el) ? 'form' : '';
    case 'SECTION': return labelOf(el) ? 'region' : '';
    case 'IMG': return el.getAttribute('alt') === '' && !el.hasAttribute('title') && !el.hasAttribute('aria-label') ? 'none' : 'img';
    case 'INPUT': return el.hasAttribute('list') && ['textbox', 'searchbox'].includes(byType[el.type]) ? 'combobox' : byType[el.type] || '';
    case 'LI': return /^(UL|OL|MENU)$/.test(el.parentNode && el.parentNode.tagName) ? 'listitem' : '';
    case 'SELECT': return isList(el) ? 'listbox' : 'combobox';
    case 'svg': return el.querySelector('text,foreignObject') && !labelOf(el) ? '' : 'img';
    case 'rect': case 'path': case 'circle': case 'ellipse': case 'line': case 'polyline': case 'polygon': case 'image': return 'img';
    case 'TD': { const t = el.closest('table'); return t && /^(grid|treegrid)$/.test(t.getAttribute('role') || '') ? 'gridcell' : 'cell'; }
    case 'TH': return el.scope === 'row' || el.scope !== 'col' && el.scope !== 'colgroup' && el.parentNode && el.parentNode.parentNode && el.parentNode.parentNode.tagName !== 'THEAD' && [...el.parentNode.children].some((c) => c.tagName === 'TD') ? 'rowheader' : 'columnheader';
    case 'TR': return 'row';
  }
  return byElement[tag] || '';
}

// The roles that may be named by what is in them (WAI-ARIA 1.2, 5.2.8.6).
const byContent = new Set(['button', 'cell', 'checkbox', 'columnheader', 'gridcell', 'heading', 'link', 'menuitem', 'menuitemcheckbox', 'menuitemradio', 'option', 'radio', 'row',
  'rowheader', 'switch', 'tab', 'tooltip', 'treeitem']);

const labelOf = (el) => fold((el.getAttribute('aria-labelledby') || '').split(/\s+/).map((id) => (id ? labelledBy(el, id) : '')).join(' ')) || fold(el.getAttribute('aria-label') || '');
const labelledBy = (el, id) => { const by = el.getRootNode().getElementById && el.getRootNode().getElementById(id); return by ? words(by, new Set([el]), true) : ''; };

// nameOf gives an element's accessible name. role is the one that it has.
function nameOf(el, role) {
  const label = labelOf(el);
  if (label) return label;
  return fold(native1(el) || (byContent.has(role) && (el.tagName !== 'TR' || el.closest('[role=grid],[role=treegrid]')) ? seenWords(el) : '') || el.getAttribute('title') || placeholder(el));
}
const seenWords = (el) => fold(plainSigns(words(el, new Set(), false)));
const placeholder = (el) => (/^(INPUT|TEXTAREA)$/.test(el.tagName) && (el.getAttribute('placeholder') || el.getAttribute('aria-placeholder'))) || '';

// native1 is what HTML itself names an element by (HTML-AAM 1.0, 5).
function native1(el) {
  const tag = el.tagName;
  if (tag === 'INPUT' && /^(button|submit|reset)$/.test(el.type)) {
    return el.value || (el.type === 'submit' && !el.hasAttribute('value') ? 'Submit' : el.type === 'reset' && !el.hasAttribute('value') ? 'Reset' : '');
  }
  if (tag === 'INPUT' && el.type === 'image') return el.getAttribute('alt') || el.getAttribute('value') || el.getAttribute('title') || 'Submit';
  if (el.labels && el.labels.length) return [...el.labels].map((l) => words(l, new Set([el]), true)).join(' ');
  switch (tag) {
    case 'IMG': case 'AREA': return el.getAttribute('alt') || '';
    case 'FIELDSET': return childWords(el, 'LEGEND');
    case 'TABLE': return childWords(el, 'CAPTION');
    case 'FIGURE': return childWords(el, 'FIGCAPTION');
    case 'OPTGROUP': return el.label;
    case 'OPTION': return el.label;
    case 'svg': { const t = el.querySelector(':scope > title'); return t ? t.textContent : ''; }
  }
  return '';
}
const childWords = (el, tag) => { for (const c of el.children) if (c.tagName === tag) return words(c, new Set(), true); return ''; };

// words are what an element and what is in it contribute to a name (4.3.2, step 2F to 2H). Those that are not shown
// say nothing, unless they were pointed at.
function words(el, seen, pointed) {
  if (seen.has(el) || seen.size > 500) return '';
  seen.add(el);
  const view = el.ownerDocument.defaultView || window, style = view.getComputedStyle(el);
  const hidden = style.display === 'none' || style.visibility !== 'visible' || el.getAttribute('aria-hidden') === 'true';
  if (hidden && !pointed || skipped.has(el.tagName) && el.tagName !== 'title') return '';
  let out = '';
  if (!(pointed && seen.size === 1)) {
    const label = fold(el.getAttribute('aria-label') || '');
    if (label && seen.size > 1) return ' ' + label + ' ';
  }
  if (seen.size > 1 && /^(INPUT|TEXTAREA|SELECT)$/.test(el.tagName)) { // a field within a label says what it holds
    if (el.tagName === 'SELECT' || el.type === 'range' || el.type === 'number' || /^(text|search|email|tel|url)$/.test(el.type) || el.tagName === 'TEXTAREA') return ' ' + valueOf(el, '') + ' ';
    return ' ' + (/^(button|submit|reset)$/.test(el.type) ? native1(el) : '') + ' ';
  }
  if (seen.size > 1 && /^(IMG|svg|TABLE|FIGURE|FIELDSET)$/.test(el.tagName)) {
    const n = native1(el);
    if (n || el.tagName === 'IMG') return ' ' + (n || el.getAttribute('title') || '') + ' ';
  }
  const before = quoted(view.getComputedStyle(el, '::before')), after = quoted(view.getComputedStyle(el, '::after'));
  out += before;
  const kids = el.shadowRoot ? el.shadowRoot.childNodes : el.tagName === 'SLOT' && el.assignedNodes().length ? el.assignedNodes() : el.childNodes;
  for (const c of kids) {
    if (c.nodeType === 3) out += cased(c.data, style.textTransform);
    else if (c.nodeType === 1) {
      const s = view.getComputedStyle(c), part = words(c, seen, pointed && hidden);
      out += s.display === 'inline' || s.display === 'contents' ? part : ' ' + part + ' ';
      if (c.tagName === 'BR') out += ' ';
    }
    if (out.length > 4 * longest) break;
  }
  out += after;
  if (!fold(out) && seen.size > 1 && el.hasAttribute('title')) out = el.getAttribute('title');
  return out;
}
const cased = (s, how) => (how === 'uppercase' ? s.toLocaleUpperCase() : how === 'lowercase' ? s.toLocaleLowerCase() : how === 'capitalize' ? s.replace(/(^|[\s\p{P}])(\p{L})/gu, (_, b, l) => b + l.toLocaleUpperCase()) : s);
const quoted = (s) => { const m = s.content && s.display !== 'none' && /^"((?:[^"\\]|\\.)*)"/.exec(s.content); return m ? m[1].replace(/\\(.)/g, '$1') : ''; };
