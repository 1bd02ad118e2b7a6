import { useEffect, useRef, useState, type ReactNode } from "react";
import { post, type About, type Problem } from "../data/api";
import { within } from "../data/within";
import { Command, Trouble } from "../parts/plain";

const wanted = "yamato.wanted";

/** Uses the code in the address up, and goes where the person wanted to go. */
export function SignIn() {
  const [trouble, setTrouble] = useState<Problem>();
  const begun = useRef(false);
  const [code] = useState(() => location.hash.slice(1));
  const [asked] = useState(() => new URLSearchParams(location.search).get("to"));
  useEffect(() => {
    if (!code || begun.current) return;
    begun.current = true;
    history.replaceState(null, "", "/sign-in"); // it works once: nobody should keep it
    post<About>("/api/v1/session", { code })
      .then(() => {
        const to = asked ?? localStorage.getItem(wanted);
        localStorage.removeItem(wanted);
        location.replace(within(to, location.origin));
      })
      .catch((e: Problem) => setTrouble(e));
  }, [code, asked]);
  if (code && !trouble) return <Door title="Signing in…" />;
  return (
    <Door title="Sign in">
      {trouble && <Trouble of={trouble} />}
      <How />
    </Door>
  );
}

export function SignedOut() {
  useEffect(() => localStorage.setItem(wanted, location.pathname + location.search), []);
  return (
    <Door title="This browser is not signed in">
      <How />
      <p className="text-soft">Afterwards you come back to this page.</p>
    </Door>
  );
}

function How() {
  return (
    <p>
      Run <Command>yamato console</Command> where you use the command line. It opens, or prints, a link that signs one
      browser in, once, within 15 minutes.
    </p>
  );
}

function Door({ title, children }: { title: string; children?: ReactNode }) {
  return (
    <main className="mx-auto max-w-lg px-5 pt-[18vh]">
      <p className="pb-6 text-lg font-semibold tracking-tight">Yamato</p>
      <h1>{title}</h1>
      <div className="space-y-3 pt-3">{children}</div>
    </main>
  );
}
