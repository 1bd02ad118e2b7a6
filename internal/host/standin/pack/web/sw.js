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
