// Makes the app open without a network: all of it is kept when it is installed, and another
// version takes its place as a whole.
const version = '{{.Version}}';
const files = {{.Files}};
addEventListener('install', (e) => {
  e.waitUntil(caches.open(version).then((c) => c.addAll(files.map((f) => new Request(f, { cache: 'reload' })))));
});
addEventListener('activate', (e) => {
  e.waitUntil(caches.keys().then((all) => Promise.all(all.filter((k) => k !== version).map((k) => caches.delete(k))))
    .then(() => clients.claim()));
});
addEventListener('fetch', (e) => {
  if (e.request.method !== 'GET') return;
  e.respondWith(caches.open(version).then((c) => c.match(e.request, { ignoreSearch: true })).then((kept) => kept || fetch(e.request)));
});
const tell = (text, opened) => clients.matchAll({ type: 'window' }).then((all) => all.map((c) => c.postMessage({ text, opened })));
addEventListener('push', (e) => {
  const text = e.data ? e.data.text() : '';
  e.waitUntil(Promise.all([tell(text, false), registration.showNotification('{{.Said}}', { body: text, data: text }).catch(() => {})]));
});
addEventListener('notificationclick', (e) => {
  e.notification.close();
  e.waitUntil(clients.matchAll({ type: 'window' }).then((all) => (all.length ? all[0].focus() : clients.openWindow('./')))
    .then(() => tell(e.notification.data, true)));
});
