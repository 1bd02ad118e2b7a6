// A line with what something is at its left and how much at its right: sums stand below each
// other, by what the screen has of width.
function line(label, id, value, strong) {
  return ui.stack({ pad: [3, 2], h: strong ? 31 : 24 },
    ui.row({ align: 'center' }, ui.text({ id: id + '-label', text: label, size: strong ? 17 : 14, face: strong ? 'bold' : 'regular', ink: strong ? ink : soft })),
    ui.row({ align: 'center' }, ui.space({ w: Math.round(os.device.width * 0.3) }),
      ui.text({ id, text: value, size: strong ? 21 : 15, face: strong ? 'bold' : 'medium', ink: strong ? accent : ink, grow: 1 })));
}
