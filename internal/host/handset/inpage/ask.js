// Tells the handset when a page is about to ask a person for a permission, and has the page wait
// until somebody has answered: a browser without a head shows nobody a question.
(() => {
  const tell = globalThis.yamatoAsk;
  delete globalThis.yamatoAsk;
  if (!tell || !navigator.permissions) return;
  const query = Permissions.prototype.query.bind(navigator.permissions);
  const answered = async (permission, name) => {
    let status;
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
})();
