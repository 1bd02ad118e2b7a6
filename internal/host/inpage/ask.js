// Tells the handset when a page is about to ask a person for a permission, and has the page wait
// until somebody has answered: a browser without a head shows nobody a question.
(() => {
  const tell = globalThis.yamatoAsk;
  delete globalThis.yamatoAsk;
  if (!tell) return;
  const query = globalThis.Permissions && navigator.permissions && Permissions.prototype.query.bind(navigator.permissions);
  const answered = async (permission, name) => {
    let status;
    if (!query) return;
    try { status = await query({ name }); } catch (_) { return; }
    if (status.state !== 'prompt') return;
    const change = new Promise((done) => status.addEventListener('change', () => { if (status.state !== 'prompt') done(); }));
    tell(permission);
    await change;
  };
  if (globalThis.Geolocation) {
    const now = Geolocation.prototype.getCurrentPosition, watch = Geolocation.prototype.watchPosition, clear = Geolocation.prototype.clearWatch;
    const watches = new Map();
    let last = 1 << 20;
    Geolocation.prototype.getCurrentPosition = function getCurrentPosition(...args) { answered('location', 'geolocation').then(() => now.apply(this, args)); };
    Geolocation.prototype.watchPosition = function watchPosition(...args) {
      const id = ++last;
      watches.set(id, 0);
      answered('location', 'geolocation').then(() => { if (watches.has(id)) watches.set(id, watch.apply(this, args)); });
      return id;
    };
    Geolocation.prototype.clearWatch = function clearWatch(id) {
      if (watches.get(id)) clear.call(this, watches.get(id));
      watches.delete(id);
    };
  }
  if (globalThis.Notification) {
    const ask = Notification.requestPermission;
    Notification.requestPermission = async function requestPermission(...args) {
      await answered('notifications', 'notifications');
      return ask.apply(Notification, args);
    };
  }
  if (globalThis.MediaDevices) {
    const open = MediaDevices.prototype.getUserMedia;
    MediaDevices.prototype.getUserMedia = async function getUserMedia(wants, ...rest) {
      if (wants && wants.video) await answered('camera', 'camera');
      if (wants && wants.audio) await answered('microphone', 'microphone');
      return open.call(this, wants, ...rest);
    };
  }
  // What is copied stays on this handset: the browser has one clipboard for all of them.
  let copied = globalThis.yamatoCopied || '';
  delete globalThis.yamatoCopied;
  const copy = (text) => { copied = String(text); tell('copied:' + copied.slice(0, 100000)); };
  if (globalThis.Clipboard) {
    Clipboard.prototype.writeText = async function writeText(text) { copy(text); };
    Clipboard.prototype.readText = async function readText() { return copied; };
    Clipboard.prototype.write = async function write(items) {
      for (const i of items) if (i.types.includes('text/plain')) copy(await (await i.getType('text/plain')).text());
    };
    Clipboard.prototype.read = async function read() { return copied ? [new ClipboardItem({ 'text/plain': new Blob([copied], { type: 'text/plain' }) })] : []; };
  }
  for (const kind of ['copy', 'cut']) {
    addEventListener(kind, (e) => {
      const text = e.defaultPrevented && e.clipboardData ? e.clipboardData.getData('text/plain') : String(getSelection());
      if (text) copy(text);
    });
  }
  // What a browser without a head shows nobody is told in the log.
  const said = (what) => tell('said:' + what);
  if (globalThis.Notification) {
    globalThis.Notification = new Proxy(Notification, { construct(f, args, self) { if (f.permission === 'granted') said('the app shows a notification, which is not drawn here: ' + args[0]); return Reflect.construct(f, args, self); } });
  }
  if (globalThis.ServiceWorkerRegistration) {
    const show = ServiceWorkerRegistration.prototype.showNotification;
    ServiceWorkerRegistration.prototype.showNotification = function showNotification(...args) { said('the app shows a notification, which is not drawn here: ' + args[0]); return show.apply(this, args); };
  }
  globalThis.print = function print() { said('the app asks to print, and handsets have no printer'); };
})();
