// Today's crossings, from the (simulated) network.
const islands = ['Sora', 'Minami', 'Kujira', 'Tobi', 'Haruka'];
const ships = ['Umineko', 'Shiokaze', 'Namihana'];

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
    os.log('info', 'timetable', crossings().length + ' crossings fetched');
    done(crossings());
  });
}
