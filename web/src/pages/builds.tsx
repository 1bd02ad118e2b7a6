import { useRef, useState, useEffect } from "react";
import { Link, useSearchParams } from "react-router";
import { inProject, useGet, type Build } from "../data/api";
import { at, plural, size } from "../data/time";
import { fetchFrom, forgetUploads, handIn, under, useUploads, type Upload } from "../data/uploads";
import { platformName } from "../data/weave";
import { useStart } from "../parts/use-start";
import { buildKey } from "../parts/start";
import { Command, Empty, Heading, Modal, Progress, Section, Trouble, Waiting } from "../parts/plain";

export const kindName = (k: string) =>
  ({
    android_package: "Android package",
    android_test: "Android test package",
    ios_device: "iOS device package",
    ios_simulator: "iOS simulator app",
    web_bundle: "Web bundle",
  })[k] ?? k;

/** A build's icon, or the first letter of its app where it has none. */
export function AppIcon({ b, large }: { b: Build; large?: boolean }) {
  const [broken, setBroken] = useState(false);
  const side = large ? { width: 44, height: 44, borderRadius: 10 } : undefined;
  if (broken || !b.packages.some((p) => p.icon))
    return (
      <span className="app-icon grid place-items-center font-semibold text-soft" style={side} aria-hidden="true">
        {b.app.slice(0, 1)}
      </span>
    );
  return (
    <img
      className="app-icon"
      style={side}
      alt=""
      src={inProject(`builds/${encodeURIComponent(`#${b.number}`)}/icon?app=${encodeURIComponent(b.app)}`)}
      onError={() => setBroken(true)}
    />
  );
}

export function Labels({ b }: { b: Build }) {
  return (
    <span className="inline-flex flex-wrap gap-1">
      {b.pinned && <span className="chip border-ink font-medium text-ink">pinned</span>}
      {b.removed_at && <span className="chip">packages removed</span>}
      {Object.entries(b.labels).map(([k, v]) => (
        <Link key={k} className="chip hover:bg-wash" to={`/builds?q=${encodeURIComponent(`${k}=${v}`)}`}>
          {k}={v}
        </Link>
      ))}
    </span>
  );
}

const shown = 100;

export function BuildsPage() {
  const [params, set] = useSearchParams();
  const [q, setQ] = useState(params.get("q") ?? "");
  const asked = params.get("q") ?? "";
  const builds = useGet<{ items: Build[] }>(`builds?limit=${shown}${asked ? `&q=${encodeURIComponent(asked)}` : ""}`, {
    placeholderData: (b) => b,
  });
  const uploads = useUploads();
  const chooser = useRef<HTMLInputElement>(null);
  const [fetching, setFetching] = useState(false);
  const start = useStart();
  useEffect(() => {
    const t = setTimeout(() => asked !== q && set(q ? { q } : {}, { replace: true }), 200);
    return () => clearTimeout(t);
  });
  return (
    <div className="mx-auto max-w-[1240px] px-5 py-5">
      <Heading title="Builds" about="Drop packages anywhere on the page: those of one version gather into one build.">
        <input
          type="search"
          aria-label="Find builds"
          placeholder="App, version, label, note"
          className="field w-60"
          value={q}
          onChange={(e) => setQ(e.target.value)}
        />
        <input
          ref={chooser}
          type="file"
          multiple
          accept=".apk,.ipa,.zip"
          className="sr-only"
          aria-label="Packages to hand in"
          tabIndex={-1}
          onChange={(e) => {
            void handIn([...(e.target.files ?? [])]);
            e.target.value = "";
          }}
        />
        <button className="button" onClick={() => setFetching(true)}>
          From an address…
        </button>
        <button className="button" onClick={() => chooser.current?.click()}>
          Choose packages…
        </button>
      </Heading>
      <Modal
        title="Hand in from an address"
        about="The service fetches it: from the public network, and from the hosts that an administrator has allowed."
        open={fetching}
        onClose={() => setFetching(false)}
      >
        <FromAddress onDone={() => setFetching(false)} />
      </Modal>
      {uploads.length > 0 && (
        <Section
          title="Handed in"
          aside={
            <button className="link" onClick={forgetUploads}>
              clear
            </button>
          }
        >
          <ul aria-label="Packages handed in">
            {uploads.map((u) => (
              <UploadLine key={u.id} u={u} />
            ))}
          </ul>
        </Section>
      )}
      {builds.error && <Trouble of={builds.error} retry={() => void builds.refetch()} />}
      {builds.isPending && <Waiting what="builds" />}
      {builds.data?.items.length === 0 && (
        <Empty title={asked ? "No build is called that." : "No builds yet."}>
          {!asked && (
            <p>
              Drop an .apk, an .ipa, a zipped simulator app or a web bundle here, or hand one in with{" "}
              <Command>yamato build push FILE…</Command>
            </p>
          )}
        </Empty>
      )}
      {builds.data && builds.data.items.length > 0 && (
        <table className="w-full">
          <thead className="border-b border-strong text-left text-sm text-soft">
            <tr>
              <th className="py-1 pr-4 font-normal">App</th>
              <th className="pr-4 font-normal">Version</th>
              <th className="pr-4 font-normal">Packages</th>
              <th className="pr-4 font-normal">Handed in</th>
              <th className="sr-only">Actions</th>
            </tr>
          </thead>
          <tbody>
            {builds.data.items.map((b) => (
              <tr key={`${b.app} ${b.number}`} className="border-b border-rule align-top hover:bg-wash">
                <td className="py-2 pr-4 font-medium">
                  <span className="flex items-center gap-3">
                    <AppIcon b={b} />
                    <Link className="link" to={`/builds/${b.number}?app=${encodeURIComponent(b.app)}`}>
                      {b.app}
                    </Link>
                  </span>
                </td>
                <td className="py-2 pr-4 whitespace-nowrap">
                  {b.version_name} ({b.version_code}) <span className="pl-1 text-sm text-faint">build {b.number}</span>
                  <div className="pt-0.5">
                    <Labels b={b} />
                  </div>
                  {b.note && (
                    <div className="max-w-80 truncate text-sm text-soft" title={b.note}>
                      {b.note}
                    </div>
                  )}
                </td>
                <td className="py-2 pr-4">
                  <div className="grid max-w-[420px] grid-cols-2 gap-x-5">
                    {b.packages.map((p) => (
                      <span key={p.digest} className="flex justify-between gap-2 whitespace-nowrap">
                        {kindName(p.kind)} <span className="text-soft">{size(p.size)}</span>
                      </span>
                    ))}
                  </div>
                </td>
                <td className="py-2 pr-4 whitespace-nowrap">{at(b.created_at)}</td>
                <td className="py-1.5 text-right">
                  <button
                    className="button"
                    aria-label={`Start a run of ${b.app} ${b.version_name}`}
                    onClick={() => start({ with: buildKey(b) })}
                  >
                    Start a run
                  </button>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {builds.data?.items.length === shown && (
        <p className="py-2 text-soft">The newest {shown} are shown; the search finds older ones.</p>
      )}
    </div>
  );
}

function FromAddress({ onDone }: { onDone: () => void }) {
  const [text, setText] = useState("");
  const addresses = text.split(/\s+/).filter(Boolean);
  const odd = addresses.find((a) => !/^https?:\/\/[^/]+/.test(a));
  const go = () => {
    if (odd || addresses.length === 0) return;
    void fetchFrom(addresses);
    onDone();
  };
  return (
    <form
      className="grid gap-y-3"
      onSubmit={(e) => {
        e.preventDefault();
        go();
      }}
    >
      <label className="grid gap-1">
        Addresses of packages, one a line
        <textarea
          className="field h-24 py-1.5 font-mono text-sm"
          autoFocus
          spellCheck={false}
          placeholder="https://builds.example/tideline-3.2.0.apk"
          value={text}
          onChange={(e) => setText(e.target.value)}
          onKeyDown={(e) => {
            if (e.key === "Enter" && (e.ctrlKey || e.metaKey)) go();
          }}
        />
      </label>
      {odd && <p className="text-petrol">{odd} is no address: they begin with https:// or http://</p>}
      <div className="flex justify-end">
        <button type="submit" className="button button-main" disabled={!!odd || addresses.length === 0}>
          {addresses.length > 1 ? `Fetch ${addresses.length} packages` : "Fetch it"}
        </button>
      </div>
    </form>
  );
}

function UploadLine({ u }: { u: Upload }) {
  const words = {
    sending: `${size(u.sent)} of ${size(u.size)} sent`,
    waiting: `${size(u.sent)} of ${size(u.size)} sent; waiting for the service`,
    fetching: u.size ? `${size(u.sent)} of ${size(u.size)} fetched` : `${size(u.sent)} fetched`,
    reading: "sent; being read",
    read: "read; waits for the others",
    in: u.build
      ? `in build ${u.build.number}, ${u.build.app} ${u.build.version_name} (${u.build.version_code}), ${plural(u.build.packages.length, "package")}`
      : "",
    refused: "refused",
  }[u.state];
  return (
    <li className="border-b border-rule py-1.5" data-state={u.state}>
      <div className="flex items-baseline justify-between gap-4">
        <span className="min-w-0 truncate font-medium">{u.name}</span>
        <span className={`whitespace-nowrap ${u.state === "refused" ? "text-petrol" : "text-soft"}`} role="status">
          {u.state === "in" && u.build ? (
            <Link className="link" to={`/builds/${u.build.number}?app=${encodeURIComponent(u.build.app)}`}>
              {words}
            </Link>
          ) : (
            words
          )}
        </span>
      </div>
      {under(u) && u.size > 0 && (
        <Progress done={u.sent} of={u.size} label={`${u.state === "fetching" ? "Fetching" : "Sending"} ${u.name}`} />
      )}
      {u.package && u.state !== "refused" && (
        <p className="text-sm text-soft">
          {kindName(u.package.kind)}: {u.package.application_id} {u.package.version_name} ({u.package.version_code}),{" "}
          {u.package.minimum_os && `needs ${platformName(u.package.platform)} ${u.package.minimum_os}`}
        </p>
      )}
      {u.trouble && <Trouble of={u.trouble} />}
    </li>
  );
}
