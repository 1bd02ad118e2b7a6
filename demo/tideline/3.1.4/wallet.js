// The tickets that were bought.
const kept = () => os.store.get('tickets') || [];
let wallet = kept();

function keep(ticket) {
  os.store.set('tickets', kept().concat([ticket]));
  wallet = kept();
}
