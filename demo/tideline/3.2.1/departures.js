// Today's crossings, from the (simulated) network, with live positions of the
// ships, which are worked out page by page where memory is short.
const islands = ['Sora', 'Minami', 'Kujira', 'Tobi', 'Haruka'];
const ships = ['Umineko', 'Shiokaze', 'Namihana'];
const enough = 3584;

function crossings() {
  const list = [];
  islands.forEach((from, i) => islands.forEach((to, j) => {
    if (from === to) return;
    const minutes = 6 * 60 + 20 + (i * 37 + j * 53) % 720;
    list.push({ from, to, minutes, ship: ships[(i + j) % 3], quay: 1 + (i * 2 + j) % 4, late: (i * 5 + j) % 7 === 0 });
  }));
  return list.sort((a, b) => a.minutes - b.minutes);
}

function fetchCrossings(done) {
  os.request(280 + 120 * Math.random(), () => {
    const paging = os.device.memory_mb < enough ? 5700 + 6000 * Math.random() : 90;
    os.log('info', 'timetable', crossings().length + ' crossings fetched, placing ships');
    os.after(paging, () => {
      os.log('info', 'timetable', 'ships placed in ' + Math.round(paging) + ' ms');
      done(crossings());
    });
  });
}
