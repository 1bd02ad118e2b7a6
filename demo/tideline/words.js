// What Tideline says, in its three languages.
const words = {
  'en-GB': {
    timetable: 'Timetable', tickets: 'Tickets', island: 'Island', all: 'All islands', departures: 'Departures',
    loading: 'Fetching today’s crossings', none: 'No crossing today', on_time: 'On time', late: 'Late',
    buy: 'Buy a ticket', from: 'From', to: 'To', passengers: 'Passengers', single: 'Single fare', total: 'Total',
    proceed: 'Continue', check: 'Your crossing', pay: 'Pay', done: 'Have a good crossing', again: 'Another ticket',
    choose: 'Choose an island', close: 'Close', same: 'Choose two different islands', count: 'From 1 to 9 passengers',
    today: 'Monday 1 June', ref: 'Ticket', quay: 'Quay', aboard: 'Be at the quay ten minutes before',
    wallet: 'Wallet', map: 'Map', empty: 'No ticket yet', chart: 'The islands', here: 'You are near', where: 'Where am I?',
    seeking: 'Looking for you', refused: 'Tideline may not know where you are', unknown: 'Where you are is not known', offline: 'There is no network',
  },
  'de-DE': {
    timetable: 'Fahrplan', tickets: 'Tickets', island: 'Insel', all: 'Alle Inseln', departures: 'Abfahrten',
    loading: 'Heutige Überfahrten werden geladen', none: 'Heute keine Überfahrt', on_time: 'Pünktlich', late: 'Verspätet',
    buy: 'Ticket kaufen', from: 'Von', to: 'Nach', passengers: 'Fahrgäste', single: 'Einzelfahrpreis', total: 'Gesamtpreis',
    proceed: 'Weiter', check: 'Ihre Überfahrt', pay: 'Bezahlen', done: 'Gute Überfahrt', again: 'Noch ein Ticket',
    choose: 'Insel wählen', close: 'Schließen', same: 'Bitte zwei verschiedene Inseln wählen', count: '1 bis 9 Fahrgäste',
    today: 'Montag, 1. Juni', ref: 'Ticket', quay: 'Anleger', aboard: 'Bitte zehn Minuten vorher am Anleger sein',
    wallet: 'Mappe', map: 'Karte', empty: 'Noch kein Ticket', chart: 'Die Inseln', here: 'Sie sind bei', where: 'Wo bin ich?',
    seeking: 'Sie werden gesucht', refused: 'Tideline darf nicht wissen, wo Sie sind', unknown: 'Wo Sie sind, ist nicht bekannt', offline: 'Kein Netz',
  },
  'pt-PT': {
    timetable: 'Horário', tickets: 'Bilhetes', island: 'Ilha', all: 'Todas as ilhas', departures: 'Partidas',
    loading: 'A obter as travessias de hoje', none: 'Hoje não há travessias', on_time: 'À hora', late: 'Atrasado',
    buy: 'Comprar bilhete', from: 'De', to: 'Para', passengers: 'Passageiros', single: 'Bilhete simples', total: 'Total',
    proceed: 'Continuar', check: 'A sua travessia', pay: 'Pagar', done: 'Boa travessia', again: 'Outro bilhete',
    choose: 'Escolher ilha', close: 'Fechar', same: 'Escolha duas ilhas diferentes', count: 'De 1 a 9 passageiros',
    today: 'Segunda-feira, 1 de junho', ref: 'Bilhete', quay: 'Cais', aboard: 'Esteja no cais dez minutos antes',
    wallet: 'Carteira', map: 'Mapa', empty: 'Ainda sem bilhetes', chart: 'As ilhas', here: 'Está perto de', where: 'Onde estou?',
    seeking: 'À sua procura', refused: 'A Tideline não pode saber onde está', unknown: 'Não se sabe onde está', offline: 'Sem rede',
  },
};
let language, say;

function speak(tag) {
  language = words[tag] ? tag : 'en-GB';
  say = words[language];
}
speak(os.device.language);

function money(amount) {
  const text = amount.toFixed(2);
  return language === 'en-GB' ? '€' + text : text.replace('.', ',') + ' €';
}
