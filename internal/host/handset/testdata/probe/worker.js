addEventListener('install', () => skipWaiting());
addEventListener('activate', (e) => e.waitUntil(clients.claim()));
addEventListener('push', (e) => e.waitUntil(clients.matchAll({ includeUncontrolled: true }).then((all) => {
  for (const c of all) c.postMessage(e.data.text());
})));
