// What Tideline says is in words.json, which is its packages' string tables, too.
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
