import { Hub, type ToHub } from "./hub";

// One for all tabs of the browser. A tab says goodbye when it closes, and says what
// it wants again now and then; one that was killed is noticed by its silence.
const hub = new Hub();
const silence = 150_000; // browsers let hidden tabs speak once a minute only

(self as unknown as { onconnect: (e: MessageEvent) => void }).onconnect = (e) => {
  const port = e.ports[0]!;
  const join = () => hub.join((m) => port.postMessage(m));
  let listener: ReturnType<typeof join> | undefined = join();
  let heard = Date.now();
  const check = setInterval(() => {
    if (Date.now() - heard > silence) leave();
  }, silence / 3);
  const leave = () => {
    if (listener) hub.leave(listener);
    listener = undefined;
  };
  port.onmessage = (m: MessageEvent<ToHub>) => {
    heard = Date.now();
    switch (m.data.kind) {
      case "want":
        listener ??= join();
        hub.want(listener, m.data.project, m.data.wants);
        break;
      case "retry":
        hub.retry();
        break;
      case "leave":
        clearInterval(check);
        leave();
        break;
    }
  };
};
