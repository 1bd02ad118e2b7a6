// A line with what something is at its left and how much at its right.
function line(label, id, value, strong) {
  return ui.row({ align: 'center', spread: 'between', pad: [3, 2] },
    ui.text({ id: id + '-label', text: label, size: strong ? 17 : 14, face: strong ? 'bold' : 'regular', ink: strong ? ink : soft }),
    ui.text({ id, text: value, size: strong ? 21 : 15, face: strong ? 'bold' : 'medium', ink: strong ? accent : ink }));
}
