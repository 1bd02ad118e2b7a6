import { useState } from "react";
import { useGet, type Build, type Device } from "../../data/api";
import { type Answer, type Order } from "../../data/session";
import { plural } from "../../data/time";
import { fetchFrom, handIn } from "../../data/uploads";
import { Trouble, Waiting } from "../../parts/plain";

/** The kinds of package that a device takes, by its platform and kind. */
const takes = (d: Device): string =>
  d.platform === "android"
    ? "android_package"
    : d.platform === "web"
      ? "web_bundle"
      : d.kind === "real"
        ? "ios_device"
        : "ios_simulator";

/** What could be put on a device that has no app yet: the builds that fit, a package, an address. */
export function ToPutOn({ device, mine, act }: { device: string; mine: boolean; act: (o: Order) => Promise<Answer> }) {
  const one = useGet<Device>(`devices/${device}`, { enabled: device !== "" });
  const builds = useGet<{ items: Build[] }>("builds?limit=100");
  const [address, setAddress] = useState("");
  const [busy, setBusy] = useState("");
  const [trouble, setTrouble] = useState<unknown>();
  const kind = one.data && takes(one.data);
  const fit = (builds.data?.items ?? []).filter((b) => !b.removed_at && b.packages.some((p) => p.kind === kind));
  const install = (b: Build | undefined) => {
    if (!b) return Promise.resolve();
    setBusy(`Installing ${b.app} ${b.version_name}…`);
    return act({ do: "install", name: `#${b.number}`, app: b.app }).finally(() => setBusy(""));
  };
  const bring = (words: string, made: Promise<Build[]>) => {
    setTrouble(undefined);
    setBusy(words);
    void made
      .then(async ([b]) => void (await install(b)))
      .catch(setTrouble)
      .finally(() => setBusy(""));
  };
  return (
    <section aria-label="What to put on it" className="space-y-4 pr-1 pb-3">
      <div>
        <h2 className="border-b border-strong pb-1">Put an app on it</h2>
        {builds.isPending || one.isPending ? <Waiting what="the builds" /> : null}
        {kind && builds.data && fit.length === 0 && (
          <p className="pt-2 text-soft">
            No build has a package for{" "}
            {one.data.platform === "web" ? "handsets" : `this ${one.data.kind === "real" ? "phone" : one.data.kind}`}{" "}
            yet. Drop one anywhere on this page, or bring it below.
          </p>
        )}
        <ul>
          {fit.slice(0, 12).map((b) => (
            <li key={`${b.app}/${b.number}`} className="flex items-center gap-2 border-b border-rule py-1.5">
              <span className="min-w-0 flex-1 truncate">
                <b className="font-medium">{b.app}</b> {b.version_name}{" "}
                <span className="text-soft">({b.version_code})</span>
              </span>
              <button
                className="button h-6 px-2"
                disabled={!mine || busy !== ""}
                aria-label={`Install ${b.app} ${b.version_name}`}
                onClick={() => void install(b)}
              >
                Install
              </button>
            </li>
          ))}
        </ul>
        {fit.length > 12 && (
          <p className="pt-1 text-sm text-soft">{plural(fit.length - 12, "older build")} under Apps.</p>
        )}
      </div>
      <div className="space-y-1.5">
        <h2>Or bring one</h2>
        <label className="button relative h-7">
          Choose a package…
          <input
            type="file"
            className="sr-only"
            disabled={!mine || busy !== ""}
            onChange={(e) => {
              const files = [...(e.target.files ?? [])];
              e.target.value = "";
              if (files.length > 0) bring("Handing it in…", handIn(files));
            }}
          />
        </label>
        <form
          className="flex gap-1.5"
          onSubmit={(e) => {
            e.preventDefault();
            bring("The service fetches it…", fetchFrom([address]));
          }}
        >
          <input
            aria-label="Address"
            className="field min-w-0 flex-1"
            type="url"
            value={address}
            onChange={(e) => setAddress(e.target.value)}
            placeholder={one.data?.platform === "web" ? "https://board.sorane.example/" : "https://…/app.apk"}
          />
          <button className="button" disabled={!mine || !address || busy !== ""}>
            Fetch
          </button>
        </form>
        <p role="status" className="min-h-5 text-sm text-soft">
          {busy}
        </p>
        {trouble !== undefined && <Trouble of={trouble} />}
      </div>
    </section>
  );
}

export function Note({ go }: { go: (text: string) => void }) {
  const [text, setText] = useState("");
  return (
    <form
      onSubmit={(e) => {
        e.preventDefault();
        go(text);
      }}
      className="flex gap-2"
    >
      <input
        autoFocus
        aria-label="Note"
        className="field min-w-0 flex-1"
        maxLength={2000}
        value={text}
        onChange={(e) => setText(e.target.value)}
        placeholder="What you see"
      />
      <button className="button button-main">Mark</button>
    </form>
  );
}
