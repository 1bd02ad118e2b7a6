// The tickets that were bought. What is at hand of them is given up while the app is away, for
// phones that are short of memory then.
const kept = () => os.store.get('tickets') || [];
let wallet = kept();

function keep(ticket) {
  os.store.set('tickets', kept().concat([ticket]));
  wallet = kept();
}

os.onHere((ms) => {
  if (os.device.real && ms > 4000) {
    os.log('info', 'wallet', 'given up after ' + Math.round(ms / 1000) + ' s away');
    wallet = [];
  }
});
