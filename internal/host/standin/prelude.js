// What an app finds when it starts. See docs/stand-ins.md.
(function (host) {
  'use strict';
  const stringify = JSON.stringify;
  const timers = new Map();
  let nextTimer = 1, handlers = [], view = null, back = null, changed = null, data = host.data, touched = false, last = '';

  function timer(ms, fn, extra) {
    if (typeof fn !== 'function') throw new TypeError('a timer needs a function');
    const id = nextTimer++;
    timers.set(id, { fn, every: extra.every });
    host.setTimer(id, Math.max(4, Number(ms) || 0), !!extra.network);
    return id;
  }

  const os = {
    device: Object.freeze(host.device),
    log(level, tag, text) { host.log(String(level), String(tag), String(text)); },
    after(ms, fn) { return timer(ms, fn, {}); },
    every(ms, fn) { return timer(ms, fn, { every: Math.max(4, Number(ms) || 0) }); },
    cancel(id) { if (timers.delete(id)) host.endTimer(id); },
    request(ms, fn) { return timer(ms, fn, { network: true }); },
    store: {
      get(key) { return Object.prototype.hasOwnProperty.call(data, key) ? data[key] : undefined; },
      set(key, value) { data[key] = value; touched = true; },
      remove(key) { delete data[key]; touched = true; },
    },
    show(fn) { view = fn; },
    onBack(fn) { back = fn; },
    onChange(fn) { changed = fn; },
  };

  function node(t) {
    return function (props) {
      const n = { t };
      for (const k in (props || {})) n[k] = props[k];
      const kids = [];
      (function add(list) {
        for (const k of list) {
          if (Array.isArray(k)) add(k);
          else if (k !== null && k !== undefined && k !== false) kids.push(typeof k === 'string' || typeof k === 'number' ? { t: 'text', text: String(k) } : k);
        }
      })(Array.prototype.slice.call(arguments, 1));
      n.kids = kids;
      return n;
    };
  }
  const ui = {};
  for (const t of ['column', 'row', 'stack', 'scroll', 'text', 'button', 'field', 'icon', 'space']) ui[t] = node(t);

  function plain(n) {
    const out = {};
    for (const k in n) {
      const v = n[k];
      if (typeof v === 'function') out[k] = handlers.push(v);
      else if (k === 'kids') out.kids = v.map(plain);
      else if (k === 'text' || k === 'value' || k === 'name' || k === 'id' || k === 'role' || k === 'hint') out[k] = String(v);
      else out[k] = v;
    }
    return out;
  }

  globalThis.os = os;
  globalThis.ui = ui;
  return {
    render() {
      if (!view) return '';
      handlers = [];
      const text = stringify(plain(view()));
      if (text === last) return '';
      last = text;
      return text;
    },
    tap(handler) { const fn = handlers[handler - 1]; if (fn) fn(); return !!fn; },
    input(handler, value) { const fn = handlers[handler - 1]; if (fn) fn(value); return !!fn; },
    timer(id) {
      const t = timers.get(id);
      if (!t) return false;
      if (t.every) host.setTimer(id, t.every, false); else timers.delete(id);
      t.fn();
      return true;
    },
    back() { return !!(back && back()); },
    change(device) { os.device = Object.freeze(device); if (changed) changed(); return true; },
    data() { if (!touched) return ''; touched = false; return stringify(data); },
  };
})
