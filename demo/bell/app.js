// A bell that counts how often it was rung, also after the app was closed.
'use strict';
const german = os.device.language.startsWith('de');

os.show(() => {
  const rung = os.store.get('rung') || 0;
  return ui.column({ pad: 24, gap: 16, ground: '#ffffff' },
    ui.text({ id: 'title', role: 'heading', text: german ? 'Kaiglocke' : 'Quay Bell', size: 24, face: 'bold' }),
    ui.text({ id: 'rung', text: (german ? 'Geläutet: ' : 'Rung: ') + rung }),
    ui.button({ id: 'ring', text: german ? 'Läuten' : 'Ring', onTap: () => { os.store.set('rung', rung + 1); os.log('info', 'bell', 'ding'); } }));
});
