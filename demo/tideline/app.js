// Tideline: timetable and tickets of the Sorane Line.
const sea = '#14536b', foam = '#f3f7f6', paper = '#ffffff', ink = '#14232e', soft = '#5d7280', rule = '#d9e3e4', sun = '#e9a13b', warn = '#b3422f';
const wide = os.device.width > 600;

const state = {
  tab: 'timetable', filter: '', list: null,
  from: 'Sora', to: 'Minami', passengers: '1', picking: null, step: 'choose', number: 0,
};

function load() {
  state.list = null;
  fetchCrossings((list) => { state.list = list; });
}

function go(tab) {
  state.tab = tab;
  if (tab === 'timetable' && !state.list) load();
}

const clock = (m) => String(Math.floor(m / 60)).padStart(2, '0') + ':' + String(m % 60).padStart(2, '0');

function header(title, back) {
  return ui.row({ ground: sea, pad: [10, 16], gap: 10, align: 'center', h: 56 },
    back && ui.button({ id: 'back', name: 'Back', onTap: back, w: 32, h: 36 }, ui.icon({ icon: 'back', size: 22, ink: foam })),
    ui.text({ role: 'heading', text: title, size: 20, face: 'bold', ink: foam, grow: 1, lines: 1 }),
    ui.icon({ name: 'Sorane Line', icon: 'ferry', size: 24, ink: sun }));
}

function tabs() {
  const tab = (id, icon, label) => {
    const on = state.tab === id;
    return ui.button({ role: 'tab', name: label, selected: on, onTap: () => go(id), grow: 1, pad: [8, 4, 6, 4], gap: 2, align: 'center' },
      ui.icon({ icon, size: 22, ink: on ? sea : soft }),
      ui.text({ text: label, size: 12, face: on ? 'bold' : 'regular', ink: on ? sea : soft }));
  };
  return ui.column({ ground: paper },
    ui.space({ h: 1, ground: rule }),
    ui.row({ role: 'tablist', h: 55, align: 'stretch' }, tab('timetable', 'clock', say.timetable), tab('tickets', 'ticket', say.tickets)));
}

function departure(c) {
  return ui.row({ role: 'listitem', pad: [9, 14], gap: 12, align: 'center', ground: paper, round: 10, line: rule },
    ui.text({ text: clock(c.minutes), size: 18, face: 'bold', ink: sea, w: 54 }),
    ui.column({ grow: 1, gap: 1 },
      ui.text({ text: c.from + ' → ' + c.to, size: 15, face: 'medium', ink, lines: 1 }),
      ui.text({ text: c.ship + ' · ' + say.quay + ' ' + c.quay, size: 12.5, ink: soft, lines: 1 })),
    ui.text({ text: c.late ? say.late : say.on_time, size: 12.5, face: 'medium', ink: c.late ? warn : '#2d7a53' }));
}

function timetable() {
  const wanted = state.filter.trim().toLowerCase();
  const named = islands.find((i) => i.toLowerCase() === wanted);
  const list = state.list && state.list.filter((c) => !wanted || c.from.toLowerCase().startsWith(wanted));
  return ui.column({ grow: 1 },
    header(say.timetable),
    ui.column({ pad: [12, 16, 8, 16], gap: 8 },
      ui.field({ id: 'island', name: say.island, hint: say.all, value: state.filter, onInput: (v) => { state.filter = v; }, ground: paper, line: rule, round: 8, pad: [9, 12] }),
      ui.row({ align: 'center', spread: 'between' },
        ui.text({ role: 'heading', text: named || say.departures, size: 17, face: 'bold', ink }),
        ui.text({ text: say.today, size: 12.5, ink: soft }))),
    list
      ? ui.scroll({ id: 'departures', role: 'list', name: say.departures, grow: 1, pad: [0, 16, 12, 16], gap: 7 },
        list.length ? list.slice(0, 20).map(departure) : ui.text({ text: say.none, ink: soft, pad: [20, 0] }))
      : ui.column({ id: 'departures', role: 'list', name: say.departures, busy: true, grow: 1, align: 'center', spread: 'center', gap: 12 },
        ui.icon({ icon: 'wait', size: 34, ink: sea }),
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

function line(label, id, value, strong) {
  return ui.row({ align: 'center', spread: 'between', pad: [3, 2] },
    ui.text({ text: label, size: strong ? 17 : 14, face: strong ? 'bold' : 'regular', ink: strong ? ink : soft }),
    ui.text({ id, text: value, size: strong ? 21 : 15, face: strong ? 'bold' : 'medium', ink: strong ? sea : ink }));
}

function trouble() {
  const n = Number(state.passengers);
  if (state.from === state.to) return say.same;
  if (!Number.isInteger(n) || n < 1 || n > 9) return say.count;
  return null;
}

function order() {
  const wrong = trouble();
  const n = Number(state.passengers);
  return ui.column({ grow: 1 },
    header(say.buy),
    ui.column({ grow: 1, pad: [14, 16], gap: 10 },
      choice('from', say.from, state.from),
      choice('to', say.to, state.to),
      ui.row({ align: 'center', gap: 12, pad: [2, 2] },
        ui.text({ text: say.passengers, size: 15, ink, grow: 1 }),
        ui.field({ id: 'passengers', name: say.passengers, value: state.passengers, onInput: (v) => { state.passengers = v.slice(0, 3); }, w: 76, ground: paper, line: rule, round: 8, pad: [8, 12], size: 17 })),
      ui.space({ h: 1, ground: rule }),
      line(say.single, 'single-fare', wrong ? '–' : money(single(state.from, state.to))),
      line(say.total, 'total', wrong ? '–' : money(total(state.from, state.to, n)), true),
      wrong ? ui.text({ role: 'alert', text: wrong, size: 13.5, ink: warn }) : null,
      ui.space({ grow: 1 }),
      ui.button({ text: say.proceed, disabled: !!wrong, onTap: () => { state.step = 'check'; }, ground: wrong ? '#9db4bd' : sea, ink: paper, face: 'medium', size: 17, round: 12, pad: [13, 16] })));
}

function check() {
  return ui.column({ grow: 1 },
    header(say.check, () => { state.step = 'choose'; }),
    ui.column({ grow: 1, pad: [16, 16], gap: 12 },
      ui.column({ ground: paper, line: rule, round: 12, pad: [16, 16], gap: 6 },
        ui.row({ align: 'center', gap: 8 },
          ui.text({ text: state.from, size: 19, face: 'bold', ink }), ui.icon({ icon: 'next', size: 18, ink: sun }), ui.text({ text: state.to, size: 19, face: 'bold', ink })),
        ui.text({ text: say.today, size: 13.5, ink: soft }),
        ui.space({ h: 6 }),
        line(say.passengers, 'count', state.passengers),
        line(say.total, 'total', money(total(state.from, state.to, Number(state.passengers))), true)),
      ui.space({ grow: 1 }),
      ui.button({ text: say.pay, onTap: pay, ground: sun, ink, face: 'bold', size: 17, round: 12, pad: [13, 16] })));
}

function pay() {
  state.step = 'paying';
  os.request(420, () => {
    state.number = 40213 + state.from.length * 7 + state.to.length;
    os.store.set('tickets', (os.store.get('tickets') || []).concat([{ number: state.number, from: state.from, to: state.to }]));
    os.log('info', 'tickets', 'ticket ' + state.number + ' paid');
    state.step = 'done';
  });
}

function done() {
  return ui.column({ grow: 1 },
    header(say.done),
    ui.column({ grow: 1, pad: [24, 16], gap: 12, align: 'center', spread: 'center' },
      ui.icon({ icon: 'check', size: 64, ink: '#2d7a53' }),
      ui.text({ id: 'ticket', text: say.ref + ' ' + state.number, size: 22, face: 'bold', ink }),
      ui.text({ text: state.from + ' → ' + state.to, size: 16, ink: soft }),
      ui.text({ text: say.aboard, size: 13.5, ink: soft, middle: true }),
      ui.space({ h: 16 }),
      ui.button({ text: say.again, onTap: () => { state.step = 'choose'; }, ink: sea, line: sea, round: 12, face: 'medium', pad: [11, 28] })));
}

function picker() {
  return ui.column({ ground: '#0c2230a6', spread: 'end', pad: [40, 12, 12, 12], align: wide ? 'center' : 'stretch' },
    ui.column({ role: 'dialog', name: say.choose, ground: paper, round: 16, pad: [14, 14], gap: 4, w: wide ? 420 : 0 },
      ui.row({ align: 'center', spread: 'between', pad: [0, 4, 6, 4] },
        ui.text({ role: 'heading', text: say.choose, size: 17, face: 'bold', ink }),
        ui.button({ text: say.close, ink: sea, size: 14, pad: [6, 8], onTap: () => { state.picking = null; } })),
      islands.map((i) => ui.button({ role: 'option', name: i, selected: state[state.picking] === i, onTap: () => { state[state.picking] = i; state.picking = null; }, ground: state[state.picking] === i ? '#e4eff1' : paper, round: 8, pad: [10, 12] },
        ui.text({ text: i, size: 16, ink })))));
}

function tickets() {
  if (state.step === 'done') return done();
  if (state.step === 'check') return check();
  if (state.step === 'paying') {
    return ui.column({ grow: 1 }, header(say.pay), ui.column({ grow: 1, busy: true, align: 'center', spread: 'center' }, ui.icon({ icon: 'wait', size: 34, ink: sea })));
  }
  return order();
}

os.onBack(() => {
  if (state.picking) { state.picking = null; return true; }
  if (state.tab === 'tickets' && state.step === 'check') { state.step = 'choose'; return true; }
  return false;
});

os.show(() => ui.stack({ ground: sea },
  ui.column({ ground: foam }, state.tab === 'timetable' ? timetable() : tickets(), tabs()),
  state.picking ? picker() : null));

load();
os.log('info', 'tideline', 'started in ' + language);
