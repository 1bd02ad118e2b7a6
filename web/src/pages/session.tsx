import { useParams } from "react-router";
import { useGet, type Session } from "../data/api";
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
