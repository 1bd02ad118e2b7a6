import { useParams } from "react-router";
import { useGet, type Device, type Session } from "../data/api";
import { Trouble, Waiting } from "../parts/plain";
import { Closed } from "./session/closed";
import { Open } from "./session/in-hand";

/** A session: the device in hand while it is open, and what stays of it afterwards. */
export function SessionPage() {
  const number = Number(useParams().session);
  const one = useGet<Session>(`sessions/${number}`, { staleTime: 0 });
  if (one.error && !one.data)
    return (
      <div className="p-5">
        <Trouble of={one.error} retry={() => void one.refetch()} />
      </div>
    );
  if (!one.data)
    return (
      <div className="p-5">
        <Waiting what="the session" />
      </div>
    );
  return one.data.state === "closed" ? <Closed s={one.data} /> : <Open key={number} s={one.data} />;
}

export const keyNames: Record<string, string> = { back: "Back", home: "Home" };

/** The kinds of package that a device takes, by its platform and kind. */
export const takes = (d: Device): string =>
  d.platform === "android"
    ? "android_package"
    : d.platform === "web"
      ? "web_bundle"
      : d.kind === "real"
        ? "ios_device"
        : "ios_simulator";

// Where the pointer is: what is told of a place comes a moment after it was asked for.
export const pointer = { x: 0, y: 0 };
window.addEventListener("mousemove", (e) => Object.assign(pointer, { x: e.clientX, y: e.clientY }), { passive: true });
