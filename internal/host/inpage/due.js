// Knows what an app has under way that could change its page: timers, frames, messages, answers, and what
// it asks of the browser. It tells whoever asks by an event of a name that nobody else knows (look.js).
(() => {
  const name = %q, now = performance.now.bind(performance), map = new Map();
  let frames = 0, under = 0, last = -1e9, moved = -1e9, unknown = 0;
  const wrapped = (owner, key, apply) => {
    const own = owner && owner[key];
    if (typeof own === 'function') owner[key] = new Proxy(own, { apply });
  };
  const listen = EventTarget.prototype.addEventListener;
  // after runs once all that has been posted before has been delivered.
  const channel = new MessageChannel(), post = MessagePort.prototype.postMessage.bind(channel.port2), hops = [];
  channel.port1.onmessage = () => hops.shift()();
  const after = (then) => { hops.push(then); post(0); };
  const done = () => after(() => { under--; last = now(); });
  const settles = (p) => { under++; p.then(done, done); return p; };

  // Timers (HTML 8.7).
  for (const key of ['setTimeout', 'setInterval']) {
    wrapped(window, key, (f, self, args) => {
      const wait = Math.max(0, Number(args[1]) || 0), run = args[0];
      let id;
      if (typeof run === 'function') {
        args = [...args];
        args[0] = function (...rest) {
          if (key === 'setTimeout') map.delete(id); else map.set(id, now() + wait);
          last = now();
          return run.apply(this, rest);
        };
      }
      id = Reflect.apply(f, self, args);
      map.set(id, now() + wait);
      return id;
    });
  }
  for (const key of ['clearTimeout', 'clearInterval']) wrapped(window, key, (f, self, args) => { map.delete(args[0]); return Reflect.apply(f, self, args); });
  // Frames, idle times, and tasks.
  const open = new Set();
  for (const [key, end] of [['requestAnimationFrame', 'cancelAnimationFrame'], ['requestIdleCallback', 'cancelIdleCallback']]) {
    wrapped(window, key, (f, self, args) => {
      const run = args[0];
      if (typeof run !== 'function') return Reflect.apply(f, self, args);
      frames++;
      let id = 0;
      const over = () => { if (open.delete(id)) { frames--; last = now(); } };
      id = Reflect.apply(f, self, [function (...rest) { over(); return run.apply(this, rest); }, ...args.slice(1)]);
      open.add(id);
      return id;
    });
    wrapped(window, end, (f, self, args) => { if (open.delete(args[0])) frames--; return Reflect.apply(f, self, args); });
  }
  if (window.scheduler) for (const key of ['postTask', 'yield']) wrapped(Object.getPrototypeOf(scheduler), key, (f, self, args) => settles(Reflect.apply(f, self, args)));
  // Messages (HTML 9.3): what is posted is on its way until what is posted after it has come.
  const posts = (f, self, args) => { const out = Reflect.apply(f, self, args); under++; done(); return out; };
  wrapped(window, 'open', (f, self, args) => { moved = now() + 300; return Reflect.apply(f, self, args); });
  wrapped(window, 'postMessage', posts);
  wrapped(MessagePort.prototype, 'postMessage', posts);
  // Answers.
  wrapped(window, 'fetch', (f, self, args) => settles(Reflect.apply(f, self, args)));
  for (const key of ['arrayBuffer', 'blob', 'bytes', 'formData', 'json', 'text']) wrapped(Response.prototype, key, (f, self, args) => settles(Reflect.apply(f, self, args)));
  wrapped(XMLHttpRequest.prototype, 'send', (f, self, args) => {
    under++;
    let over = false;
    listen.call(self, 'loadend', () => { if (!over) { over = true; done(); } }, { once: true });
    try { return Reflect.apply(f, self, args); } catch (e) { if (!over) { over = true; done(); } throw e; }
  });
  // What answers in its own time, and what may speak at any: that cannot be known.
  const asks = (f, self, args) => { last = now(); return Reflect.apply(f, self, args); };
  for (const of of [window.IDBObjectStore, window.IDBIndex, window.IDBFactory, window.IDBCursor, window.IDBDatabase, window.SubtleCrypto, window.Cache, window.CacheStorage,
    window.Geolocation, window.Permissions, window.FileReader, window.Clipboard, window.StorageManager, window.MediaDevices, window.ServiceWorkerContainer, window.ReadableStreamDefaultReader, window.FontFace]) {
    if (!of) continue;
    for (const key of Object.getOwnPropertyNames(of.prototype)) {
      const d = Object.getOwnPropertyDescriptor(of.prototype, key);
      if (d && typeof d.value === 'function' && key !== 'constructor' && d.writable) wrapped(of.prototype, key, asks);
    }
  }
  for (const key of ['createImageBitmap', 'queueMicrotask']) wrapped(window, key, asks);
  wrapped(HTMLImageElement.prototype, 'decode', (f, self, args) => settles(Reflect.apply(f, self, args)));
  for (const key of ['Worker', 'SharedWorker', 'WebSocket', 'EventSource', 'BroadcastChannel', 'RTCPeerConnection', 'WebTransport', 'AudioContext']) {
    const own = window[key];
    if (typeof own === 'function') window[key] = new Proxy(own, { construct(f, args, self) { unknown++; return Reflect.construct(f, args, self); } });
  }
  wrapped(window.Geolocation && Geolocation.prototype, 'watchPosition', (f, self, args) => { unknown++; return Reflect.apply(f, self, args); });
  for (const key of ['scroll', 'touchmove', 'wheel', 'pointermove', 'play', 'timeupdate']) listen.call(window, key, () => { moved = now(); }, { capture: true, passive: true });

  // Asked by whoever knows the name: whether something may happen within so many milliseconds.
  listen.call(document, name, (e) => {
    e.stopImmediatePropagation();
    if (e.detail < 0) return e.preventDefault(); // somebody is here who knows
    const t = now();
    let due = frames > 0 || under > 0 || unknown > 0 || t - last < 4 || t - moved < 120;
    for (const [id, at] of map) {
      if (at < t - 500) map.delete(id); // it was not a function's, or was ended by the page's own end
      else if (at < t + e.detail) due = true;
    }
    if (due) e.preventDefault();
  }, { capture: true });
})();
