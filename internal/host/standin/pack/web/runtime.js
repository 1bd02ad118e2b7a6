// Runs an app for stand-ins in a browser: what docs/stand-ins.md promises to its program, over
// the page's own elements. The program comes after this, in a script of its own.
(() => {
  'use strict';
  const root = document.getElementById('app');
  let view = null, back = null, timers = 0, waits = 0, drawn = false;
  const pending = new Map();

  function timer(ms, fn, every, network, failed) {
    if (typeof fn !== 'function') throw new TypeError('a timer needs a function');
    const id = ++timers;
    if (network) { waits++; wait(); }
    const run = () => {
      if (!every) pending.delete(id);
      if (network) { waits--; wait(); }
      if (!network || navigator.onLine) fn();
      else if (failed) failed('there is no network');
      else console.error('network: a request failed, and the app does nothing about it: there is no network');
      draw();
    };
    pending.set(id, [every ? setInterval(run, Math.max(4, ms)) : setTimeout(run, Math.max(4, Number(ms) || 0)), every]);
    return id;
  }
  const wait = () => { if (waits) root.setAttribute('aria-busy', 'true'); else root.removeAttribute('aria-busy'); };

  const agent = /\(Linux; Android [^;]*; ([^)]*)\)/.exec(navigator.userAgent);
  const side = Math.min(innerWidth, innerHeight);
  const dark = matchMedia('(prefers-color-scheme: dark)'), across = matchMedia('(orientation: landscape)');
  const text = document.createElement('span');
  text.style.cssText = 'position:absolute;visibility:hidden;font-size:medium';
  function device() {
    return Object.freeze({
      platform: 'web', model: agent ? agent[1] : 'browser', os: (/Chrome\/(\d+)/.exec(navigator.userAgent) || [0, ''])[1],
      form: side >= 600 ? 'tablet' : 'phone', width: innerWidth, height: innerHeight,
      memory_mb: 1024 * (navigator.deviceMemory || 4), real: false, language: navigator.language,
      dark: dark.matches, across: across.matches, zone: Intl.DateTimeFormat().resolvedOptions().timeZone,
      text_size: Math.round(parseFloat(getComputedStyle(text).fontSize || '16') / 0.16), charge: 100, charging: true, offline: !navigator.onLine,
    });
  }
  const listeners = {};
  function on(name) { return (fn) => { listeners[name] = fn; if (name === 'link') linked(); }; }
  const tell = (name, ...args) => { if (listeners[name]) { listeners[name](...args); draw(); } };
  const linked = () => { if (location.hash) tell('link', '/' + location.hash.replace(/^#\/*/, '')); };
  addEventListener('hashchange', linked);
  let left = 0;
  document.addEventListener('visibilitychange', () => {
    if (document.visibilityState === 'hidden') { left = Date.now(); tell('away'); } else tell('here', Date.now() - left);
  });
  addEventListener('deviceorientation', (e) => { if (e.beta !== null) tell('tilt', e.alpha, e.beta, e.gamma); });
  let shaken = -1e6;
  addEventListener('devicemotion', (e) => {
    const a = e.acceleration;
    if (!a || a.x === null || Math.hypot(a.x, a.y, a.z) < 15) return;
    if (e.timeStamp - shaken > 1000) tell('shake');
    shaken = e.timeStamp;
  });
  if ('serviceWorker' in navigator) navigator.serviceWorker.addEventListener('message', (e) => tell('message', String(e.data.text), !!e.data.opened));
  async function askFor(permission) {
    const given = (yes) => (yes ? 'allow' : 'deny');
    try {
      switch (permission) {
        case 'notifications': return given(await Notification.requestPermission() === 'granted');
        case 'location': return await new Promise((done) => navigator.geolocation.getCurrentPosition(() => done('allow'), (e) => done(given(e.code !== 1)), { timeout: 5000 }));
        case 'motion': return given(!DeviceMotionEvent.requestPermission || await DeviceMotionEvent.requestPermission() === 'granted');
        case 'camera': case 'microphone': {
          const stream = await navigator.mediaDevices.getUserMedia({ video: permission === 'camera', audio: permission === 'microphone' });
          for (const t of stream.getTracks()) t.stop();
          return 'allow';
        }
      }
    } catch (e) { return e.name === 'NotFoundError' ? 'none' : 'deny'; }
    throw new TypeError('there is no permission ' + permission);
  }

  let changed = null;
  const change = () => {
    if (JSON.stringify(os.device) === JSON.stringify(device())) return;
    os.device = device();
    if (changed) changed();
    draw();
  };
  for (const m of [dark, across]) m.addEventListener('change', change);
  for (const kind of ['resize', 'languagechange', 'online', 'offline']) addEventListener(kind, change);
  document.head.append(text);
  globalThis.os = {
    device: device(),
    onChange(fn) { changed = fn; },
    log(level, tag, text) {
      (console[{ debug: 'debug', info: 'info', warn: 'warn', error: 'error' }[level] || 'log'])(tag + ': ' + text);
    },
    after(ms, fn) { return timer(ms, fn); },
    every(ms, fn) { return timer(Number(ms) || 0, fn, true); },
    cancel(id) {
      const t = pending.get(id);
      if (!t) return;
      pending.delete(id);
      (t[1] ? clearInterval : clearTimeout)(t[0]);
    },
    request(what, fn, failed) {
      const ms = typeof what === 'object' && what !== null ? what.ms : what;
      return timer(ms === undefined ? 100 : ms, fn, false, true, failed);
    },
    ask(permission, fn) { askFor(permission).then((answer) => { fn(answer); draw(); }); },
    place(fn) {
      navigator.geolocation.getCurrentPosition((p) => {
        fn({ latitude: p.coords.latitude, longitude: p.coords.longitude, accuracy: p.coords.accuracy });
        draw();
      }, (e) => { fn(null, e.code === 1 ? 'refused' : 'unknown'); draw(); }, { timeout: 5000 });
    },
    choose(fn) {
      const input = document.createElement('input');
      input.type = 'file';
      const give = async () => {
        const f = input.files[0];
        fn(f ? { name: f.name, size: f.size, text: await f.slice(0, 65536).text() } : null);
        draw();
      };
      for (const kind of ['change', 'cancel']) input.addEventListener(kind, give);
      input.click();
    },
    onAway: on('away'), onHere: on('here'), onLink: on('link'), onMessage: on('message'), onTilt: on('tilt'), onShake: on('shake'),
    store: {
      get(key) { const v = localStorage.getItem('store ' + key); return v === null ? undefined : JSON.parse(v); },
      set(key, value) { localStorage.setItem('store ' + key, JSON.stringify(value)); },
      remove(key) { localStorage.removeItem('store ' + key); },
    },
    show(fn) { view = fn; if (drawn) draw(); },
    onBack(fn) { back = fn; },
  };

  globalThis.ui = {};
  for (const t of ['column', 'row', 'stack', 'scroll', 'text', 'button', 'field', 'icon', 'space']) {
    ui[t] = (props, ...kids) => ({
      ...props, t,
      kids: kids.flat(Infinity).filter((k) => k !== null && k !== undefined && k !== false)
        .map((k) => (typeof k === 'string' || typeof k === 'number' ? { t: 'text', text: String(k), kids: [] } : k)),
    });
  }

  const tags = { button: 'button', field: 'input', text: 'span', icon: 'span' };
  const sides = { start: 'flex-start', center: 'center', end: 'flex-end', between: 'space-between' };
  const faces = { medium: '500', bold: '700' };
  const px = (n) => n + 'px';
  const pad = (p) => (p === undefined ? '' : [].concat(p).map(px).join(' '));

  function style(n, inStack) {
    const s = {
      display: 'flex', flexDirection: n.t === 'row' ? 'row' : 'column', boxSizing: 'border-box', minWidth: '0', minHeight: '0',
      padding: pad(n.pad), gap: n.gap ? px(n.gap) : '', flexGrow: n.grow ? String(n.grow) : '', flexShrink: n.grow ? '1' : '0',
      flexBasis: n.grow ? '0' : '', width: n.w ? px(n.w) : '', height: n.h ? px(n.h) : '', alignItems: sides[n.align] || '',
      justifyContent: sides[n.spread] || '', background: n.ground || '', color: n.ink || '', borderRadius: n.round ? px(n.round) : '',
      border: n.line ? '1px solid ' + n.line : '', fontSize: n.size ? px(n.size) : '', fontWeight: faces[n.face] || '',
      fontFamily: n.face === 'mono' ? 'monospace' : '', textAlign: n.middle ? 'center' : '', gridArea: inStack ? '1 / 1' : '',
    };
    if (n.t === 'stack') Object.assign(s, { display: 'grid', alignItems: 'stretch', justifyItems: 'stretch' });
    if (n.t === 'scroll') s.overflowY = 'auto';
    s.touchAction = n.onSwipe || n.onPinch || n.drag ? 'none' : '';
    if (n.onHold) s.userSelect = 'none';
    if (n.t === 'text') {
      Object.assign(s, { display: 'block', flexShrink: n.grow || n.lines ? '1' : '0' });
      if (n.lines === 1) Object.assign(s, { whiteSpace: 'nowrap', overflow: 'hidden', textOverflow: 'ellipsis' });
      if (n.w) s.flexShrink = '0';
    }
    if (n.t === 'button' && !n.align) s.alignItems = n.text !== undefined ? 'center' : '';
    if (n.t === 'button' && n.text !== undefined && !n.spread) s.justifyContent = 'center';
    if (n.t === 'icon') Object.assign(s, { width: px(n.w || n.size || 24), height: px(n.h || n.size || 24) });
    return s;
  }

  function shape(name) {
    const i = yamatoIcons[name] || yamatoIcons.unknown;
    const lines = (i.lines || []).map((l) => {
      let d = '';
      for (let k = 0; k + 1 < l.length; k += 2) d += (k ? 'L' : 'M') + l[k] + ' ' + l[k + 1];
      return '<path d="' + d + '"/>';
    });
    const circles = (i.circles || []).map((c) => '<circle cx="' + c[0] + '" cy="' + c[1] + '" r="' + c[2] + '"/>');
    return '<svg aria-hidden="true" viewBox="0 0 24 24" width="100%" height="100%" fill="none" stroke="currentColor" stroke-width="2" stroke-linecap="round" stroke-linejoin="round">' + lines.join('') + circles.join('') + '</svg>';
  }

  const set = (el, name, value) => {
    if (value === undefined || value === null || value === false || value === '') el.removeAttribute(name);
    else if (el.getAttribute(name) !== String(value)) el.setAttribute(name, String(value));
  };

  // patch has the element be what n describes, and gives it; a new one where it cannot become that.
  function patch(el, n, inStack) {
    const tag = tags[n.t] || 'div';
    if (!el || el.localName !== tag || el.dataset.t !== n.t) {
      el = document.createElement(tag);
      el.dataset.t = n.t;
      if (tag === 'button') { el.type = 'button'; el.addEventListener('click', () => act(el.described.onTap)); }
      else if (tag === 'input') {
        el.type = 'text';
        el.autocomplete = 'off';
        el.addEventListener('input', () => act(el.described.onInput, el.value));
        el.addEventListener('keydown', (e) => { if (e.key === 'Enter' && el.described.onEnter) act(el.described.onEnter); });
      } else el.addEventListener('click', (e) => { if (el.described.onTap) { e.stopPropagation(); act(el.described.onTap); } });
    }
    el.described = n;
    const s = style(n, inStack);
    for (const k in s) if (el.style[k] !== s[k]) el.style[k] = s[k];
    set(el, 'id', n.id);
    set(el, 'role', n.role || (n.t === 'icon' && n.name ? 'img' : ''));
    set(el, 'aria-label', n.name);
    set(el, 'aria-selected', n.selected ? 'true' : n.role === 'tab' || n.role === 'option' ? 'false' : '');
    set(el, 'aria-busy', n.busy ? 'true' : '');
    set(el, 'aria-checked', n.checked);
    if (n.role === 'heading') set(el, 'aria-level', 2);
    if ('disabled' in el) el.disabled = !!n.disabled;
    if (n.t === 'field') {
      set(el, 'placeholder', n.hint);
      const value = n.value === undefined ? '' : String(n.value);
      if (el.value !== value) el.value = value;
      return el;
    }
    if (n.t === 'icon') {
      if (el.dataset.icon !== n.icon) { el.dataset.icon = n.icon || ''; el.innerHTML = shape(n.icon); }
      return el;
    }
    if (n.text !== undefined && !n.kids.length) {
      if (el.textContent !== String(n.text) || el.childElementCount) el.textContent = String(n.text);
      return el;
    }
    for (let i = 0; i < n.kids.length; i++) {
      const old = el.childNodes[i], now = patch(old, n.kids[i], n.t === 'stack');
      if (now !== old) { if (old) el.replaceChild(now, old); else el.appendChild(now); }
    }
    while (el.childNodes.length > n.kids.length) el.lastChild.remove();
    return el;
  }

  // What fingers do beside tapping.
  const reacting = (el, key) => {
    for (; el && el !== root; el = el.parentElement) if (el.described && el.described[key] && !el.described.disabled) return el.described;
    return null;
  };
  let finger = null, before = 0, lastTap = null;
  const apart = (t) => Math.hypot(t[0].clientX - t[1].clientX, t[0].clientY - t[1].clientY);
  root.addEventListener('touchstart', (e) => {
    if (finger) clearTimeout(finger.hold);
    if (e.touches.length === 2) { before = apart(e.touches); return; }
    const t = e.touches[0], one = { x: t.clientX, y: t.clientY, target: e.target, far: 0 };
    one.hold = setTimeout(() => {
      const n = reacting(one.target, 'onHold');
      if (n && one.far <= 10) { one.took = true; act(n.onHold); }
    }, 500);
    finger = one;
    before = 0;
  }, { passive: true });
  root.addEventListener('touchmove', (e) => {
    if (!finger) return;
    if (before && e.touches.length === 2) { finger.after = apart(e.touches); return; }
    const t = e.touches[0];
    finger.now = t;
    finger.far = Math.max(finger.far, Math.hypot(t.clientX - finger.x, t.clientY - finger.y));
  }, { passive: true });
  root.addEventListener('touchend', (e) => {
    if (!finger || e.touches.length) return;
    const f = finger;
    finger = null;
    clearTimeout(f.hold);
    if (f.took) { e.preventDefault(); return; }
    if (before) {
      const n = f.after && Math.abs(f.after - before) > 10 && reacting(f.target, 'onPinch');
      if (n) { e.preventDefault(); act(n.onPinch, Math.round((100 * f.after) / before) / 100); }
      return;
    }
    if (f.far > 10) {
      const dx = f.now.clientX - f.x, dy = f.now.clientY - f.y, carried = reacting(f.target, 'drag');
      const onto = carried && reacting(document.elementFromPoint(f.now.clientX, f.now.clientY), 'onDrop'), swiped = reacting(f.target, 'onSwipe');
      if (carried) { if (onto) act(onto.onDrop, carried.drag); } else if (swiped) act(swiped.onSwipe, Math.abs(dx) > Math.abs(dy) ? (dx > 0 ? 'right' : 'left') : dy > 0 ? 'down' : 'up');
      return;
    }
    const twice = lastTap && e.timeStamp - lastTap.at < 320 && Math.hypot(lastTap.x - f.x, lastTap.y - f.y) < 30 && reacting(f.target, 'onDouble');
    lastTap = twice ? null : { at: e.timeStamp, x: f.x, y: f.y };
    if (twice) { e.preventDefault(); act(twice.onDouble); }
  });

  function act(fn, value) {
    if (!fn) return;
    fn(value);
    draw();
  }

  function draw() {
    if (!view) return;
    drawn = true;
    const n = view(), old = root.firstElementChild, now = patch(old, n, true);
    if (now !== old) root.replaceChildren(now);
  }

  addEventListener('popstate', () => {
    const took = back && back();
    draw();
    if (took) history.pushState('app', '');
  });
  globalThis.yamatoRun = () => {
    if (!history.state) { history.replaceState('start', ''); history.pushState('app', ''); }
    draw();
    if ('serviceWorker' in navigator) navigator.serviceWorker.register('sw.js').catch((e) => console.warn('offline: ' + e.message));
  };
})();
