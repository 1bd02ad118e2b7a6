// What fingers do in a browser that has no touch screen: it is made here of what such a browser has, by a script.
// yamatoPans moves what a phone would move with a finger that goes over it (Pointer Events 3, touch-action; CSSOM
// View, scrolling boxes). It gives "moved" for that, "" where the finger is the page's own to heed.
globalThis.yamatoPans = (x, y, dx, dy) => {
  const across = Math.abs(dx) > Math.abs(dy), root = document.scrollingElement;
  let at = document.elementFromPoint(x, y);
  while (at && at.shadowRoot && at.shadowRoot.elementFromPoint(x, y) && at.shadowRoot.elementFromPoint(x, y) !== at) at = at.shadowRoot.elementFromPoint(x, y);
  for (let e = at; e; e = e.parentElement || (e.getRootNode().host || null)) {
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
// yamatoFingers has several fingers do what they do: each has the page's own events, and nothing of the browser's.
globalThis.yamatoFingers = async (ticks) => {
  const down = new Map();
  const tell = (kind, f, over) => {
    const t = over || document.elementFromPoint(f.x, f.y) || document.body;
    const e = { bubbles: true, cancelable: true, composed: true, clientX: f.x, clientY: f.y, screenX: f.x, screenY: f.y, pointerId: 100 + f.n, pointerType: 'touch', isPrimary: f.n === 0,
      button: kind === 'pointermove' ? -1 : 0, buttons: kind === 'pointerup' ? 0 : 1, pressure: kind === 'pointerup' ? 0 : 0.5, width: 20, height: 20 };
    t.dispatchEvent(new PointerEvent(kind, e));
    return t;
  };
  const capture = Element.prototype.setPointerCapture;
  Element.prototype.setPointerCapture = function setPointerCapture(id) { if (id >= 100 && id < 120) { const f = down.get(id - 100); if (f) f.on = this; return undefined; } return capture.call(this, id); };
  try {
    for (const tick of ticks) {
      for (const [n, what, x, y] of tick.do) {
        const f = down.get(n) || { n, x, y };
        f.x = x;
        f.y = y;
        if (what === 'down') { down.set(n, f); f.on = tell('pointerdown', f); } else if (what === 'up') { tell('pointerup', f, f.on); down.delete(n); } else if (down.has(n)) tell('pointermove', f, f.on);
      }
      if (tick.over > 0) await new Promise((done) => setTimeout(done, tick.over));
    }
  } finally { Element.prototype.setPointerCapture = capture; }
  return '';
};
