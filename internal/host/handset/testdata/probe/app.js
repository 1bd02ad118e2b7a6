const at = (id) => document.getElementById(id);
const put = (id, text) => { if (at(id).textContent !== String(text)) at(id).textContent = text; };
const show = () => put('count', localStorage.getItem('count') || '0');
at('more').addEventListener('click', () => {
  localStorage.setItem('count', String(Number(localStorage.getItem('count') || 0) + 1));
  show();
});
at('later').addEventListener('click', () => setTimeout(() => { at('came').hidden = false; }, 500));
at('field').addEventListener('input', () => put('echo', at('field').value));

// What the surroundings are like.
const dark = matchMedia('(prefers-color-scheme: dark)'), across = matchMedia('(orientation: landscape)');
function surroundings() {
  put('scheme', dark.matches ? 'dark' : 'light');
  put('held', across.matches ? 'landscape' : 'portrait');
  put('language', navigator.language);
  put('zone', Intl.DateTimeFormat().resolvedOptions().timeZone);
  put('network', navigator.onLine ? 'some' : 'none');
  put('page', location.pathname + location.hash);
}
for (const m of [dark, across]) m.addEventListener('change', surroundings);
for (const kind of ['languagechange', 'online', 'offline', 'hashchange', 'resize']) addEventListener(kind, surroundings);
setInterval(surroundings, 100);
let away = 0;
document.addEventListener('visibilitychange', () => { if (document.visibilityState === 'hidden') put('away', ++away); });
at('locate').addEventListener('click', () => navigator.geolocation.getCurrentPosition(
  (p) => put('place', `${p.coords.latitude.toFixed(3)} ${p.coords.longitude.toFixed(3)}`), (e) => put('place', e.code === 1 ? 'refused' : 'unknown'), { timeout: 3000 }));
addEventListener('deviceorientation', (e) => { if (e.beta !== null) put('tilt', Math.round(e.beta)); });
let shaken = 0, hard = -1e6;
addEventListener('devicemotion', (e) => {
  const a = e.acceleration;
  if (!a || a.x === null || Math.abs(a.x) < 15) return;
  if (e.timeStamp - hard > 1000) put('shaken', ++shaken);
  hard = e.timeStamp;
});
at('choose').addEventListener('change', async () => put('chosen', at('choose').files[0].name + ': ' + await at('choose').files[0].text()));
at('call').addEventListener('click', async () => {
  try { put('answer', (await (await fetch('answer.txt', { cache: 'no-store' })).text()).trim()); } catch (_) { put('answer', 'no answer'); }
});

// What fingers do on the pad.
const fingers = new Map();
let began = 0, lastTap = -1e6, first = 0, told = '';
const apart = () => { const [a, b] = [...fingers.values()]; return Math.hypot(a.x - b.x, a.y - b.y); };
at('pad').addEventListener('pointerdown', (e) => {
  at('pad').setPointerCapture(e.pointerId);
  fingers.set(e.pointerId, { x: e.clientX, y: e.clientY, x0: e.clientX, y0: e.clientY });
  began = e.timeStamp;
  if (fingers.size === 2) first = apart();
});
at('pad').addEventListener('pointermove', (e) => {
  const f = fingers.get(e.pointerId);
  if (f) { f.x = e.clientX; f.y = e.clientY; }
  if (fingers.size === 2) told = apart() < first ? 'pinch' : 'spread';
});
at('pad').addEventListener('pointerup', (e) => {
  const f = fingers.get(e.pointerId);
  if (!f) return;
  fingers.delete(e.pointerId);
  if (told) { if (!fingers.size) { put('gesture', told); told = ''; } return; }
  const dx = e.clientX - f.x0, dy = e.clientY - f.y0;
  if (Math.hypot(dx, dy) > 20) put('gesture', Math.abs(dx) > Math.abs(dy) ? (dx > 0 ? 'right' : 'left') : (dy > 0 ? 'down' : 'up'));
  else if (e.timeStamp - began > 400) put('gesture', 'hold');
  else if (e.timeStamp - lastTap < 350) put('gesture', 'double');
  else put('gesture', 'tap');
  lastTap = e.timeStamp - began > 400 ? -1e6 : e.timeStamp;
});
if ('serviceWorker' in navigator) {
  navigator.serviceWorker.register('worker.js');
  navigator.serviceWorker.addEventListener('message', (e) => put('message', e.data));
}
surroundings();
show();
