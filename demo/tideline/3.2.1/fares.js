// What a crossing costs.
const zones = { Sora: 1, Minami: 2, Kujira: 4, Tobi: 5, Haruka: 7 };

function single(from, to) { return 2.1 + 1.05 * Math.abs(zones[from] - zones[to]); }

function total(from, to, passengers) { return single(from, to) * passengers; }
