// What fingers do in a browser that has no touch screen: it is made here of what such a browser has, by a script.
// yamatoPans moves what a phone would move with a finger that goes over it (Pointer Events 3, touch-action; CSSOM
// View, scrolling boxes). It gives "moved" for that, "" where the finger is the page's own to heed.
globalThis.yamatoPans = (x, y, dx, dy) => {
  const across = Math.abs(dx) > Math.abs(dy), root = document.scrollingElement;
  for (let e = deepest(x, y); e; e = e.parentElement || (e.getRootNode().host || null)) {
    const s = getComputedStyle(e), action = s.touchAction || 'auto';
    if (/^(none|pinch-zoom)$/.test(action) || /pan-/.test(action) && !(across ? /pan-(x|left|right)/ : /pan-(y|up|down)/).test(action)) return '';
    if (e.closest && e.closest('[draggable=true]') || e.tagName === 'INPUT' && e.type === 'range') return '';
    const own = e === root || e === document.body && root === document.documentElement;
    const rolls = /(auto|scroll)/.test(across ? s.overflowX : s.overflowY) || e === root;
    if (!rolls || own && e !== root) continue;
    const room = across ? e.scrollWidth - e.clientWidth : e.scrollHeight - e.clientHeight;
    if (room <= 0) continue;
    const was = across ? e.scrollLeft : e.scrollTop;
    e.scrollBy({ left: across ? -dx : 0, top: across ? 0 : -dy, behavior: 'instant' });
    if ((across ? e.scrollLeft : e.scrollTop) !== was) { changed(); return 'moved'; }
  }
  return '';
};
// yamatoFingers has fingers do what they do, moment by moment: each has the page's own events of a touch screen (Touch
// Events, 5; with pointers, Pointer Events 3, 10), in the order in which browsers send them. It gives "taken" where the
// page leaves the browser nothing to do of its own.
globalThis.yamatoFingers = async (ticks, pointers) => {
  const down = new Map();
  let taken = false;
  const touchOf = (f) => ({ identifier: f.n, target: f.began, clientX: f.x, clientY: f.y, pageX: f.x + scrollX, pageY: f.y + scrollY, screenX: f.x, screenY: f.y, radiusX: 10, radiusY: 10, rotationAngle: 0, force: 1 });
  const listOf = (all) => { const l = all.map(touchOf); l.item = (i) => l[i] || null; return l; };
  const touch = (kind, f) => {
    const e = new Event(kind, { bubbles: true, cancelable: true, composed: true }), all = [...down.values()];
    for (const [name, value] of [['touches', listOf(all)], ['targetTouches', listOf(all.filter((o) => o.began === f.began))], ['changedTouches', listOf([f])], ['altKey', false], ['ctrlKey', false], ['shiftKey', false], ['metaKey', false]]) Object.defineProperty(e, name, { value });
    if (!f.began.dispatchEvent(e)) taken = true;
  };
  const pointer = (kind, f) => {
    if (!pointers) return;
    (f.on || f.began).dispatchEvent(new PointerEvent(kind, { bubbles: true, cancelable: true, composed: true, clientX: f.x, clientY: f.y, screenX: f.x, screenY: f.y, pointerId: 100 + f.n, pointerType: 'touch',
      isPrimary: f.n === 0, button: kind === 'pointermove' ? -1 : 0, buttons: kind === 'pointerup' ? 0 : 1, pressure: kind === 'pointerup' ? 0 : 0.5, width: 20, height: 20 }));
  };
  const capture = Element.prototype.setPointerCapture, release = Element.prototype.releasePointerCapture;
  const ours = (id) => id >= 100 && id < 120 && down.get(id - 100);
  Element.prototype.setPointerCapture = function setPointerCapture(id) { const f = ours(id); if (f) f.on = this; else capture.call(this, id); };
  Element.prototype.releasePointerCapture = function releasePointerCapture(id) { const f = ours(id); if (f) f.on = null; else release.call(this, id); };
  const places = new Map();
  try {
    for (const tick of ticks) {
      for (const [n, what, x, y] of tick.do) {
        places.set(n, [x, y]);
        const f = down.get(n) || { n };
        [f.x, f.y] = [x, y];
        if (what === 'down') {
          f.began = deepest(x, y) || document.body;
          down.set(n, f);
          pointer('pointerdown', f);
          touch('touchstart', f);
        } else if (what === 'up' && down.has(n)) {
          pointer('pointerup', f);
          down.delete(n);
          touch('touchend', f);
        } else if (down.has(n)) {
          pointer('pointermove', f);
          touch('touchmove', f);
        }
      }
      if (tick.over > 0) await new Promise((done) => setTimeout(done, tick.over));
    }
  } finally { Element.prototype.setPointerCapture = capture; Element.prototype.releasePointerCapture = release; }
  changed();
  return taken ? 'taken' : '';
};
// deepest is what lies at a place, in shadow roots that are open too.
function deepest(x, y) {
  let at = document.elementFromPoint(x, y);
  while (at && at.shadowRoot) {
    const inner = at.shadowRoot.elementFromPoint(x, y);
    if (!inner || inner === at) break;
    at = inner;
  }
  return at;
}
// yamatoSlides tells whether a place is on something that only the browser itself moves.
globalThis.yamatoSlides = (x, y) => { const at = deepest(x, y); return at && at.tagName === 'INPUT' && at.type === 'range' ? 'yes' : ''; };
// yamatoDrags has what a page says can be dragged (HTML 6.11) be dragged from one place to another, as the system does
// it on phones. It gives "dragged", or "" where nothing there can be.
globalThis.yamatoDrags = (x0, y0, x, y) => {
  const from = document.elementFromPoint(x0, y0), what = from && from.closest('[draggable=true]');
  if (!what) return '';
  const data = new DataTransfer();
  const tell = (kind, on, px, py) => on.dispatchEvent(new DragEvent(kind, { bubbles: true, cancelable: kind !== 'dragend' && kind !== 'dragleave', composed: true, clientX: px, clientY: py, dataTransfer: data }));
  if (!tell('dragstart', what, x0, y0)) return 'dragged';
  let over = null, takes = false;
  for (let i = 1; i <= 6; i++) {
    const px = x0 + (x - x0) * i / 6, py = y0 + (y - y0) * i / 6, at = document.elementFromPoint(px, py) || document.body;
    if (at !== over) {
      tell('dragenter', at, px, py);
      if (over) tell('dragleave', over, px, py);
      over = at;
    }
    tell('drag', what, px, py);
    takes = !tell('dragover', at, px, py);
  }
  if (takes) tell('drop', over, x, y);
  tell('dragend', what, x, y);
  changed();
  return 'dragged';
};
// yamatoLogged gives what the page has logged since the last time (told.js).
globalThis.yamatoLogged = () => { const list = []; document.dispatchEvent(new CustomEvent(dueName + '-told', { detail: list })); return JSON.stringify(list); };
