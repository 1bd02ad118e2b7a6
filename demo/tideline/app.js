// Tideline: timetable, tickets, wallet and map of the Sorane Line.
const sun = '#e9a13b', light = { sea: '#14536b', foam: '#f3f7f6', paper: '#ffffff', ink: '#14232e', soft: '#5d7280', rule: '#d9e3e4', warn: '#b3422f', good: '#2d7a53', water: '#cfe3e8', over: '#f3f7f6', accent: '#14536b' };
const night = { sea: '#1d6480', foam: '#101b21', paper: '#1a272f', ink: '#e9f0f1', soft: '#9fb1ba', rule: '#2c3c45', warn: '#ef9a86', good: '#7fcfa5', water: '#16323d', over: '#f3f7f6', accent: '#78c4dc' };
let sea, foam, paper, ink, soft, rule, warn, good, water, over, accent, wide, across;

function look() {
  ({ sea, foam, paper, ink, soft, rule, warn, good, water, over, accent } = os.device.dark ? night : light);
  across = os.device.across;
  wide = os.device.width > 600;
}
look();

const state = {
  tab: 'timetable', filter: '', list: null,
  from: 'Sora', to: 'Minami', passengers: '1', picking: null, step: 'choose', number: 0,
  here: null, lost: null, message: null, near: 1,
  delays: false, home: 'Sora', who: null, user: '', password: '', wrong: false, favourites: ['Sora', 'Minami', 'Kujira'],
  photo: null, slant: false, shaken: false, toast: null, going: 0,
};

function load() {
  state.list = null;
  fetchCrossings((list) => { state.list = list; });
}

function go(tab) {
  state.tab = tab;
  if (tab === 'timetable' && !state.list) load();
  if (tab === 'map') {
    state.here = state.lost = null;
    locate((island, why) => { state.here = island; state.lost = why; });
  }
}

const clock = (m) => String(Math.floor(m / 60)).padStart(2, '0') + ':' + String(m % 60).padStart(2, '0');

function header(title, back) {
  return ui.row({ ground: sea, pad: [10, 16], gap: 10, align: 'center', h: 56 },
    back && ui.button({ id: 'back', name: 'Back', onTap: back, w: 32, h: 36 }, ui.icon({ icon: 'back', size: 22, ink: over })),
    ui.text({ role: 'heading', text: title, size: 20, face: 'bold', ink: over, grow: 1, lines: 1 }),
    ui.button({ id: 'settings', name: say.settings, onTap: () => go('settings'), w: 34, h: 36, pad: [5, 4] }, ui.icon({ name: 'Sorane Line', icon: 'ferry', size: 24, ink: sun })));
}

function tabs() {
  const tab = (id, icon, label) => {
    const on = state.tab === id;
    return ui.button({ role: 'tab', name: label, selected: on, onTap: () => go(id), grow: 1, pad: [8, 4, 6, 4], gap: 2, align: 'center' },
      ui.icon({ icon, size: 22, ink: on ? ink : soft }),
      ui.text({ text: label, size: 12, face: on ? 'bold' : 'regular', ink: on ? ink : soft, lines: 1 }));
  };
  return ui.column({ ground: paper },
    ui.space({ h: 1, ground: rule }),
    ui.row({ role: 'tablist', h: 55, align: 'stretch' }, tab('timetable', 'clock', say.timetable), tab('tickets', 'ticket', say.tickets), tab('wallet', 'wallet', say.wallet), tab('map', 'map', say.map)));
}

function departure(c) {
  return ui.row({ role: 'listitem', pad: [9, 14], gap: 12, align: 'center', ground: paper, round: 10, line: rule },
    ui.text({ text: clock(c.minutes), size: 18, face: 'bold', ink, w: 54 }),
    ui.column({ grow: 1, gap: 1 },
      ui.text({ text: c.from + ' → ' + c.to, size: 15, face: 'medium', ink, lines: 1 }),
      ui.text({ text: c.ship + ' · ' + say.quay + ' ' + c.quay, size: 12.5, ink: soft, lines: 1 })),
    ui.text({ text: c.late ? say.late : say.on_time, size: 12.5, face: 'medium', ink: c.late ? warn : good }));
}

function timetable() {
  const wanted = state.filter.trim().toLowerCase();
  const named = islands.find((i) => i.toLowerCase() === wanted);
  const list = state.list && state.list.filter((c) => !wanted || c.from.toLowerCase().startsWith(wanted));
  return ui.column({ grow: 1 },
    header(say.timetable),
    ui.column({ pad: [12, 16, 8, 16], gap: 8 },
      ui.field({ id: 'island', name: say.island, hint: say.all, value: state.filter, onInput: (v) => { state.filter = v; }, ground: paper, ink, line: rule, round: 8, pad: [9, 12] }),
      ui.row({ align: 'center', spread: 'between' },
        ui.text({ role: 'heading', text: named || say.departures, size: 17, face: 'bold', ink }),
        ui.text({ text: say.today, size: 12.5, ink: soft }))),
    list
      ? ui.scroll({ id: 'departures', role: 'list', name: say.departures, grow: 1, pad: [0, 16, 12, 16], gap: 7 },
        list.length ? list.slice(0, 20).map(departure) : ui.text({ text: say.none, ink: soft, pad: [20, 0] }))
      : ui.column({ id: 'departures', role: 'list', name: say.departures, busy: true, grow: 1, align: 'center', spread: 'center', gap: 12 },
        ui.icon({ icon: 'wait', size: 34, ink: soft }),
        ui.text({ role: 'status', text: say.loading, size: 14, ink: soft })));
}

function choice(id, label, value) {
  return ui.button({ id, name: label + ': ' + value, onTap: () => { state.picking = id; }, pad: [10, 14], gap: 0, ground: paper, line: rule, round: 10 },
    ui.row({ align: 'center', gap: 10 },
      ui.column({ grow: 1 },
        ui.text({ text: label, size: 12, ink: soft }),
        ui.text({ id: id + '-island', text: value, size: 17, face: 'medium', ink })),
      ui.icon({ icon: 'next', size: 18, ink: soft })));
}

function trouble() {
  const n = Number(state.passengers);
  if (state.from === state.to) return say.same;
  if (!Number.isInteger(n) || n < 1 || n > 9) return say.count;
  return null;
}

// page is what a screen shows under its header; where there is little height it can be scrolled.
const page = (props, ...kids) => (across ? ui.scroll(props, kids.filter((k) => !k || k.t !== 'space' || !k.grow)) : ui.column(props, kids));

function order() {
  const wrong = trouble();
  const n = Number(state.passengers);
  return ui.column({ grow: 1 },
    header(say.buy),
    page({ grow: 1, pad: [14, 16], gap: 10 },
      choice('from', say.from, state.from),
      choice('to', say.to, state.to),
      ui.row({ align: 'center', gap: 12, pad: [2, 2] },
        ui.text({ text: say.passengers, size: 15, ink, grow: 1 }),
        ui.field({ id: 'passengers', name: say.passengers, value: state.passengers, onInput: (v) => { state.passengers = v.slice(0, 3); }, w: 76, ground: paper, ink, line: rule, round: 8, pad: [8, 12], size: 17 })),
      ui.space({ h: 1, ground: rule }),
      line(say.single, 'single-fare', wrong ? '–' : money(single(state.from, state.to))),
      line(say.total, 'total', wrong ? '–' : money(total(state.from, state.to, n)), true),
      wrong ? ui.text({ role: 'alert', text: wrong, size: 13.5, ink: warn }) : null,
      ui.space({ grow: 1 }),
      ui.button({ text: say.proceed, disabled: !!wrong, onTap: () => { state.step = 'check'; }, ground: wrong ? '#9db4bd' : sea, ink: over, face: 'medium', size: 17, round: 12, pad: [13, 16] })));
}

function check() {
  return ui.column({ grow: 1 },
    header(say.check, () => { state.step = 'choose'; }),
    page({ grow: 1, pad: [16, 16], gap: 12 },
      ui.column({ ground: paper, line: rule, round: 12, pad: [16, 16], gap: 6 },
        ui.row({ align: 'center', gap: 8 },
          ui.text({ text: state.from, size: 19, face: 'bold', ink }), ui.icon({ icon: 'next', size: 18, ink: sun }), ui.text({ text: state.to, size: 19, face: 'bold', ink })),
        ui.text({ text: say.today, size: 13.5, ink: soft }),
        ui.space({ h: 6 }),
        line(say.passengers, 'count', state.passengers),
        line(say.total, 'total', money(total(state.from, state.to, Number(state.passengers))), true)),
      ui.space({ grow: 1 }),
      ui.button({ text: say.pay, onTap: pay, ground: sun, ink: '#14232e', face: 'bold', size: 17, round: 12, pad: [13, 16] })));
}

function pay() {
  state.step = 'paying';
  os.request({ ms: 420, method: 'POST', address: 'https://sorane.example/tickets', bytes: 180, sent: 240 }, () => {
    state.number = 40213 + state.from.length * 7 + state.to.length;
    keep({ number: state.number, from: state.from, to: state.to });
    os.log('info', 'tickets', 'ticket ' + state.number + ' paid');
    state.step = 'done';
  }, () => { state.step = 'check'; state.message = say.offline; });
}

function done() {
  return ui.column({ grow: 1 },
    header(say.done),
    ui.column({ grow: 1, pad: [24, 16], gap: 12, align: 'center', spread: 'center' },
      ui.icon({ icon: 'check', size: 64, ink: good }),
      ui.text({ id: 'ticket', text: say.ref + ' ' + state.number, size: 22, face: 'bold', ink }),
      ui.text({ text: state.from + ' → ' + state.to, size: 16, ink: soft }),
      ui.text({ text: say.aboard, size: 13.5, ink: soft, middle: true }),
      ui.space({ h: 16 }),
      ui.button({ text: say.again, onTap: () => { state.step = 'choose'; }, ink, line: soft, round: 12, face: 'medium', pad: [11, 28] })));
}

function picker() {
  return ui.column({ ground: '#0c2230a6', spread: 'end', pad: [40, 12, 12, 12], align: wide ? 'center' : 'stretch' },
    ui.column({ role: 'dialog', name: say.choose, ground: paper, round: 16, pad: [14, 14], gap: 4, w: wide ? 420 : 0 },
      ui.row({ align: 'center', spread: 'between', pad: [0, 4, 6, 4] },
        ui.text({ role: 'heading', text: say.choose, size: 17, face: 'bold', ink }),
        ui.button({ text: say.close, ink, size: 14, pad: [6, 8], onTap: () => { state.picking = null; } })),
      islands.map((i) => ui.button({ role: 'option', name: i, selected: state[state.picking] === i, onTap: () => { state[state.picking] = i; state.picking = null; saved(); }, ground: state[state.picking] === i ? rule : paper, round: 8, pad: [10, 12] },
        ui.text({ text: i, size: 16, ink })))));
}

function tickets() {
  if (state.step === 'done') return done();
  if (state.step === 'check') return check();
  if (state.step === 'paying') {
    return ui.column({ grow: 1 }, header(say.pay), ui.column({ grow: 1, busy: true, align: 'center', spread: 'center' }, ui.icon({ icon: 'wait', size: 34, ink: soft })));
  }
  return order();
}

function walletPage() {
  return ui.column({ grow: 1 },
    header(say.wallet),
    wallet.length
      ? ui.scroll({ id: 'wallet', role: 'list', name: say.wallet, grow: 1, pad: [14, 16], gap: 8 },
        wallet.map((t) => ui.row({ role: 'listitem', pad: [12, 14], gap: 12, align: 'center', ground: paper, round: 10, line: rule },
          ui.icon({ icon: 'ticket', size: 24, ink: sun }),
          ui.column({ grow: 1, gap: 1 },
            ui.text({ text: t.from + ' → ' + t.to, size: 16, face: 'medium', ink, lines: 1 }),
            ui.text({ text: say.ref + ' ' + t.number, size: 12.5, ink: soft })))))
      : ui.column({ id: 'wallet', role: 'list', name: say.wallet, grow: 1, align: 'center', spread: 'center', gap: 10 },
        ui.icon({ icon: 'wallet', size: 40, ink: soft }),
        ui.text({ id: 'empty', text: say.empty, size: 15, ink: soft })));
}

const zoomed = (by) => { state.near = Math.min(2.5, Math.max(1, state.near * by)); };

function map() {
  const w = (across ? os.device.width - 60 : Math.min(os.device.width, 560)) - 56, h = across ? 130 : 290;
  const x = (at) => Math.round(w / 2 + ((at[1] - 139.26) / 0.3) * (w - 90) * 0.5 * 2 * (state.near / 2 + 0.5) - 34);
  const y = (at) => Math.round(h / 2 + ((34.8 - at[0]) / 0.62) * (h - 34) * (state.near / 2 + 0.5) - 12);
  return ui.column({ grow: 1 },
    header(say.map),
    page({ grow: 1, pad: [14, 16], gap: 10 },
      ui.stack({ id: 'chart', role: 'group', name: say.chart, ground: water, round: 12, h: h + 24, onPinch: zoomed, onDouble: () => zoomed(1.5), onHold: () => { state.near = 1; } },
        islands.map((i) => ui.column({ pad: [Math.max(0, y(positions[i])), 0, 0, Math.max(0, x(positions[i]))], align: 'start' },
          ui.row({ gap: 4, align: 'center' },
            ui.icon({ icon: 'place', size: 20, ink: i === state.here ? sun : accent }),
            ui.text({ text: i, size: 14, face: i === state.here ? 'bold' : 'regular', ink }))))),
      ui.text({ id: 'here', role: 'status', size: 15, ink,
        text: state.here ? say.here + ' ' + state.here : { refused: say.refused, unknown: say.unknown }[state.lost] || say.seeking }),
      ui.space({ grow: 1 }),
      ui.button({ id: 'again', text: say.where, onTap: () => go('map'), ink, line: soft, round: 12, face: 'medium', pad: [11, 16] })));
}

function banner() {
  return ui.row({ role: 'alert', ground: sun, pad: [9, 16], gap: 10, align: 'center' },
    ui.text({ id: 'message', text: state.message, size: 14, face: 'medium', ink: '#14232e', grow: 1 }),
    ui.button({ text: say.close, size: 14, ink: '#14232e', pad: [4, 8], onTap: () => { state.message = null; } }));
}

// What is set is said for a moment, and then goes by itself.
function saved() {
  if (state.tab !== 'settings') return;
  state.toast = say.saved;
  os.cancel(state.going);
  state.going = os.after(1500, () => { state.toast = null; });
}

function toast() {
  return ui.column({ spread: 'end', align: 'center', pad: [0, 0, 76, 0] },
    ui.text({ role: 'status', text: state.toast, size: 14, ink: over, ground: '#14232e', round: 16, pad: [7, 16] }));
}

function signIn() {
  os.request({ ms: 260, method: 'POST', address: 'https://sorane.example/session', bytes: 90, sent: 120 }, () => {
    if (state.password.length < 6) { state.wrong = true; os.log('warn', 'account', 'sign-in refused for ' + state.user); return; }
    state.who = state.user;
    state.wrong = false;
    state.password = '';
    os.log('info', 'account', 'signed in as ' + state.who);
    saved();
  }, () => { state.message = say.offline; });
}

const section = (text) => ui.text({ role: 'heading', text, size: 15, face: 'bold', ink, pad: [8, 0, 2, 0] });
const entry = (id, name, hidden) => ui.field({ id, name, hint: name, value: hidden ? '•'.repeat(state[id].length) : state[id],
  onInput: (v) => { state[id] = hidden ? (v.length < state[id].length ? state[id].slice(0, v.length) : state[id] + v.slice(state[id].length)) : v; },
  ground: paper, ink, line: rule, round: 8, pad: [8, 12] });

function settings() {
  return ui.column({ grow: 1 },
    header(say.settings),
    ui.scroll({ id: 'preferences', grow: 1, pad: [6, 16, 16, 16], gap: 7 },
      ui.row({ id: 'delays', role: 'switch', name: say.delays, checked: state.delays ? 'true' : 'false', onTap: () => { state.delays = !state.delays; saved(); }, gap: 10, pad: [10, 14], align: 'center', ground: paper, round: 10, line: rule },
        ui.text({ text: say.delays, size: 15, ink, grow: 1 }), ui.icon({ icon: state.delays ? 'check' : 'minus', size: 18, ink: state.delays ? good : soft })),
      choice('home', say.home, state.home),
      section(say.sign_in),
      state.who
        ? ui.row({ align: 'center', gap: 10 }, ui.text({ id: 'signed-in', text: say.signed_in.replace('%s', state.who), size: 15, ink, grow: 1 }),
          ui.button({ id: 'sign-out', text: say.sign_out, onTap: () => { state.who = null; saved(); }, ink, line: soft, round: 10, pad: [8, 14] }))
        : ui.column({ gap: 7 }, entry('user', say.user), entry('password', say.password, true),
          state.wrong ? ui.text({ role: 'alert', text: say.wrong, size: 13.5, ink: warn }) : null,
          ui.button({ id: 'sign-in', text: say.sign_in, disabled: !state.user || !state.password, onTap: signIn, ground: sea, ink: over, round: 10, pad: [10, 14] })),
      section(say.favourites),
      ui.column({ id: 'favourites', role: 'list', name: say.favourites, gap: 5 }, state.favourites.map((f) => ui.row({ role: 'listitem', name: f, drag: f, onDrop: (g) => { arrange(g, f); }, pad: [10, 14], ground: paper, round: 8, line: rule }, ui.text({ text: f, size: 15, ink })))),
      ui.text({ id: 'favourite-count', text: say.items.replace('%d', state.favourites.length), size: 12.5, ink: soft }),
      section(say.photo),
      ui.text({ id: 'photo', text: state.photo || say.no_photo, size: 14, ink: soft }),
      ui.button({ id: 'attach', text: say.attach, onTap: () => os.choose((f) => { if (f) { state.photo = f.name; saved(); } }), ink, line: soft, round: 10, pad: [9, 14] }),
      ui.text({ id: 'held', text: state.slant ? say.tilted : say.level, size: 12.5, ink: soft }),
      state.shaken ? ui.text({ id: 'shaken', text: say.shaken, size: 12.5, ink: soft }) : null));
}

function arrange(moved, onto) {
  const rest = state.favourites.filter((f) => f !== moved);
  rest.splice(rest.indexOf(onto), 0, moved);
  state.favourites = rest;
  saved();
}

os.onTilt((a, b, c) => { state.slant = Math.abs(b) > 20 || Math.abs(c) > 20; });
os.onShake(() => { state.shaken = true; });
os.onBack(() => {
  if (state.picking) { state.picking = null; return true; }
  if (state.tab === 'tickets' && state.step === 'check') { state.step = 'choose'; return true; }
  return false;
});
os.onChange(() => { look(); speak(os.device.language); });
os.onMessage((text) => { state.message = text; });
os.onLink((path) => {
  const tab = path.replace(/^[/#]+/, '').split(/[/?#]/)[0];
  if (Object.keys(pages).includes(tab)) go(tab);
});

const pages = { timetable, tickets, wallet: walletPage, map, settings };
os.show(() => ui.stack({ ground: sea },
  ui.column({ ground: foam }, state.message ? banner() : null, pages[state.tab](), tabs()),
  state.picking ? picker() : null,
  state.toast ? toast() : null));

load();
os.log('info', 'tideline', 'started in ' + language);
