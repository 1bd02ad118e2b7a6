let count = os.store.get('count') || 0, text = '', came = false, seen = { gesture: '', place: '', answer: '', message: '', page: '', chosen: '', tilt: '', shaken: 0, away: 0 };
const say = (id) => ui.text({ id, size: 10, text: String(seen[id]) });
os.onAway(() => { seen.away++; });
os.onLink((path) => { seen.page = path; });
os.onMessage((message) => { seen.message = message; });
os.onTilt((alpha, beta) => { seen.tilt = Math.round(beta); });
os.onShake(() => { seen.shaken++; });
os.show(() => ui.column({ ground: '#ffffff', gap: 2, pad: 4 },
  ui.row({ gap: 8, align: 'center' }, ui.text({ id: 'count', text: String(count) }),
    ui.button({ id: 'more', text: 'More', pad: 6, onTap: () => { count++; os.store.set('count', count); } }),
    ui.button({ id: 'later', text: 'Later', pad: 6, onTap: () => os.after(500, () => { came = true; }) }),
    ui.button({ id: 'locate', text: 'Locate', pad: 6, onTap: () => os.place((at, why) => { seen.place = at ? at.latitude.toFixed(3) + ' ' + at.longitude.toFixed(3) : why; }) }),
    ui.button({ id: 'choose', text: 'Choose', pad: 6, onTap: () => os.choose((file) => { seen.chosen = file ? file.name + ': ' + file.text : 'none'; }) }),
    ui.button({ id: 'call', text: 'Call', pad: 6, onTap: () => os.request({ ms: 80, address: 'https://probe.example/answer.txt' }, () => { seen.answer = 'there is an answer'; }, () => { seen.answer = 'no answer'; }) })),
  ui.field({ id: 'field', value: text, onInput: (v) => { text = v; } }),
  ui.text({ id: 'echo', text }),
  came ? ui.text({ id: 'came', text: 'Here' }) : ui.space({ h: 1 }),
  ui.row({ gap: 8 }, ui.space({ id: 'blue', w: 100, h: 100, ground: '#0000ff' }),
    ui.stack({ id: 'pad', ground: '#dddddd', w: 200, h: 100, onTap: () => { seen.gesture = 'tap'; }, onHold: () => { seen.gesture = 'hold'; }, onDouble: () => { seen.gesture = 'double'; },
      onSwipe: (way) => { seen.gesture = way; }, onPinch: (by) => { seen.gesture = by < 1 ? 'pinch' : 'spread'; } })),
  ui.row({ gap: 8 },
    ui.column({ w: 120 }, ui.text({ id: 'scheme', size: 10, text: os.device.dark ? 'dark' : 'light' }),
      ui.text({ id: 'held', size: 10, text: os.device.across ? 'landscape' : 'portrait' }),
      ui.text({ id: 'network', size: 10, text: os.device.offline ? 'none' : 'some' }),
      ui.text({ id: 'language', size: 10, text: os.device.language }), ui.text({ id: 'zone', size: 10, text: os.device.zone }),
      ui.text({ id: 'size', text: 'text' }), ui.text({ id: 'charge', size: 10, text: String(os.device.charge) })),
    ui.column({ grow: 1 }, ['gesture', 'place', 'answer', 'message', 'page', 'chosen', 'tilt', 'shaken', 'away'].map(say)))));
