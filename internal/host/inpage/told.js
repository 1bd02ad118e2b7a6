// Keeps what a page logs, in a browser that tells nobody, until it is asked for by an event of a name that nobody else
// knows: lines of when, how grave, by whom, and what.
(() => {
  const name = %q, lines = [], now = Date.now, listen = EventTarget.prototype.addEventListener;
  const most = 2000;
  const say = (v) => {
    if (typeof v === 'string') return v;
    if (v instanceof Error) return String(v);
    try { const s = typeof v === 'object' && v !== null ? JSON.stringify(v) : String(v); return s === undefined ? String(v) : s; } catch (_) { return String(v); }
  };
  const put = (level, tag, words) => { if (lines.length < most) lines.push([now(), level, tag, words.join(' ').slice(0, 8000)]); };
  for (const [key, level] of [['log', 'info'], ['info', 'info'], ['debug', 'debug'], ['trace', 'debug'], ['warn', 'warn'], ['error', 'error']]) {
    const own = console[key];
    console[key] = new Proxy(own, { apply(f, self, args) { put(level, 'console', args.map(say)); return Reflect.apply(f, self, args); } });
  }
  listen.call(window, 'error', (e) => { if (e.message) put('error', 'uncaught', [e.message]); }, { capture: true });
  listen.call(window, 'unhandledrejection', (e) => put('error', 'uncaught', ['Uncaught (in promise) ' + say(e.reason)]), { capture: true });
  listen.call(document, name, (e) => { e.stopImmediatePropagation(); e.detail.push(...lines.splice(0)); }, { capture: true });
})();
