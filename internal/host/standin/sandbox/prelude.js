// What an app finds when it starts. See docs/stand-ins.md.
(function (host) {
  'use strict';
  const stringify = JSON.stringify;
  const timers = new Map();
  const wishes = new Map(), listeners = {};
  let nextTimer = 1, nextWish = 1, handlers = [], view = null, back = null, changed = null, data = host.data, touched = false, last = '';

  function timer(ms, fn, extra) {
    if (typeof fn !== 'function') throw new TypeError('a timer needs a function');
    const id = nextTimer++;
    timers.set(id, { fn, every: extra.every, failed: extra.failed, call: extra.call });
    host.setTimer(id, Math.max(4, Number(ms) || 0), !!extra.call, extra.call ? stringify(extra.call) : '');
    return id;
  }
  function wish(what, of, fn) {
    if (typeof fn !== 'function') throw new TypeError('what is asked for needs a function that takes it');
    const id = nextWish++;
    wishes.set(id, fn);
    host.wish(id, what, String(of));
  }
  // What a request or an answer carries: text as it is, anything else as JSON; what is long is cut where it is kept.
  function carried(body) {
    if (body === undefined || body === null) return '';
    const text = typeof body === 'string' ? body : JSON.stringify(body);
    return text.length > 131072 ? text.slice(0, 131072) : text;
  }
  function texts(of) {
    const out = {};
    if (typeof of === 'object' && of !== null) for (const name of Object.keys(of).slice(0, 50)) out[String(name).slice(0, 200)] = String(of[name]).slice(0, 2000);
    return out;
  }
  function request(what, fn, failed) {
    const call = typeof what === 'object' && what !== null ? what : { ms: what };
    return timer(call.ms === undefined ? 100 : call.ms, fn, { failed, call: {
      address: String(call.address === undefined ? '' : call.address), method: String(call.method || 'GET'), media_type: String(call.type || 'application/json'),
      status: Number(call.status) | 0 || 200, bytes: Number(call.bytes) | 0, sent: Number(call.sent) | 0,
      headers: texts(call.headers), body: carried(call.body), answer_headers: texts(call.answer_headers), answer: carried(call.answer) } });
  }
  const on = (name) => (fn) => { listeners[name] = fn; };

  const os = {
    device: Object.freeze(host.device),
    log(level, tag, text) { host.log(String(level), String(tag), String(text)); },
    after(ms, fn) { return timer(ms, fn, {}); },
    every(ms, fn) { return timer(ms, fn, { every: Math.max(4, Number(ms) || 0) }); },
    cancel(id) { if (timers.delete(id)) host.endTimer(id); },
    request,
    ask(permission, fn) { wish('permission', permission, fn); },
    place(fn) { wish('place', 'location', fn); },
    choose(fn) { wish('file', '', fn); },
    onAway: on('away'), onHere: on('here'), onLink: on('link'), onMessage: on('message'), onTilt: on('tilt'), onShake: on('shake'),
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
    touch(handler, args) { const fn = handlers[handler - 1]; if (fn) fn.apply(undefined, args); return !!fn; },
    timer(id, failed) {
      const t = timers.get(id);
      if (!t) return false;
      if (t.every) host.setTimer(id, t.every, false, ''); else timers.delete(id);
      if (!failed) t.fn();
      else if (t.failed) t.failed(failed);
      else host.log('error', 'network', 'a request failed, and the app does nothing about it: ' + failed);
      return true;
    },
    answer(id, args) {
      const fn = wishes.get(id);
      wishes.delete(id);
      if (fn) fn.apply(undefined, args);
      return !!fn;
    },
    event(name, args) { const fn = listeners[name]; if (fn) fn.apply(undefined, args); return !!fn; },
    back() { return !!(back && back()); },
    change(device) { os.device = Object.freeze(device); if (changed) changed(); return true; },
    written: (value) => stringify(value),
    data() { if (!touched) return ''; touched = false; return stringify(data); },
  };
})
