// Where the islands are, and where one is among them.
const positions = { Sora: [35.1, 139.2], Minami: [34.9, 139.31], Kujira: [34.74, 139.12], Tobi: [34.62, 139.4], Haruka: [34.5, 139.18] };

function nearest(latitude, longitude) {
  const far = (i) => Math.hypot(positions[i][0] - latitude, (positions[i][1] - longitude) * 0.82);
  return islands.slice().sort((a, b) => far(a) - far(b))[0];
}

function locate(done) {
  os.place((at, why) => done(at ? nearest(at.latitude, at.longitude) : null, why));
}
