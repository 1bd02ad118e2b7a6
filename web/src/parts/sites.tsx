import { Progress as Bar } from "radix-ui";
import { memo, useState } from "react";
import { Link } from "react-router";
import { carryOut, inProject, outdated, put, useGet, type Site } from "../data/api";
import { useFleet } from "../data/live";
import { plural } from "../data/time";
import { Modal, Trouble } from "./plain";
import { Pick, Tick } from "./start/pick";

const gb = (mb: number) => `${(mb / 1024).toFixed(1)} GB`;

/** What is taken of each site's host: virtual devices against what there is for them, and the machine as it is. */
export const Sites = memo(function Sites({ site, real }: { site: string; real: Record<string, number> }) {
  const sites = useGet<Site[]>("sites", { refetchInterval: 2500, placeholderData: (b) => b });
  const [making, setMaking] = useState(false);
  const [images, setImages] = useState(false);
  const list = (sites.data ?? []).filter((s) => !site || s.site === site);
  const offers = (sites.data ?? []).filter((s) => s.images.length > 0);
  if (list.length === 0) return null;
  return (
    <section aria-label="Sites" className="grid gap-x-8 gap-y-3 pb-4 lg:grid-cols-2">
      {list.map((s) => (
        <Load
          key={s.host}
          s={s}
          onMake={() => setMaking(true)}
          onImages={() => setImages(true)}
          real={real[s.site] ?? 0}
        />
      ))}
      <Modal
        title="Make a virtual device"
        about="It boots from an OS image that is at the site."
        open={making}
        onClose={() => setMaking(false)}
      >
        {making && <Make sites={offers} onDone={() => setMaking(false)} />}
      </Modal>
      <Modal
        title="OS images"
        about="What virtual devices boot from."
        wide
        open={images}
        onClose={() => setImages(false)}
      >
        {images && <Images sites={offers} />}
      </Modal>
    </section>
  );
});

function Load({ s, real, onMake, onImages }: { s: Site; real: number; onMake: () => void; onImages: () => void }) {
  const taken = s.running.reduce((n, r) => n + r.takes_mb, 0);
  const cpus = s.running.reduce((n, r) => n + r.takes_cpus, 0);
  const virtual = s.images.length > 0 || s.running.length > 0;
  return (
    <div className="min-w-0 border-t border-strong pt-1.5">
      <div className="flex items-baseline justify-between gap-3">
        <span>
          <span className="font-semibold">{s.site}</span>
          <span className="text-soft">
            {" "}
            host {s.host}
            {!s.linked && ", not linked"}
            {virtual && `, ${plural(s.running.length, "virtual device")} up`}
            {real > 0 && `, ${plural(real, "real device")}`}
          </span>
        </span>
        {virtual && (
          <span className="flex gap-1.5">
            <button className="button" onClick={onImages}>
              OS images
            </button>
            <button className="button" onClick={onMake}>
              Make a device
            </button>
          </span>
        )}
      </div>
      <div className="grid gap-x-6 gap-y-1 pt-1.5 sm:grid-cols-2">
        {s.capacity.memory_mb > 0 && (
          <Gauge
            label="Memory of virtual devices"
            part={taken / s.capacity.memory_mb}
            words={`${gb(taken)} of ${gb(s.capacity.memory_mb)}`}
          />
        )}
        {s.capacity.cpus > 0 && (
          <Gauge
            label="Processors of virtual devices"
            part={cpus / s.capacity.cpus}
            words={`${cpus} of ${s.capacity.cpus}`}
          />
        )}
        {!!s.capacity.devices && (
          <Gauge
            label="Devices that are up"
            part={s.running.length / s.capacity.devices}
            words={`${s.running.length} of ${s.capacity.devices}`}
          />
        )}
        {s.machine.total_mb > 0 && (
          <Gauge
            label="Memory of the machine"
            part={s.machine.used_mb / s.machine.total_mb}
            words={`${gb(s.machine.used_mb)} of ${gb(s.machine.total_mb)}`}
          />
        )}
        {s.machine.cpus > 0 && (
          <Gauge
            label="Processors of the machine"
            part={s.machine.cpu}
            words={`${Math.round(100 * s.machine.cpu)}% of ${s.machine.cpus}`}
          />
        )}
      </div>
    </div>
  );
}

function Gauge({ label, part, words }: { label: string; part: number; words: string }) {
  const full = part > 0.9;
  return (
    <div>
      <div className="flex justify-between text-sm text-soft">
        <span>{label}</span>
        <span className={full ? "font-medium text-ink" : ""}>{words}</span>
      </div>
      <Bar.Root
        aria-label={`${label}: ${words}`}
        value={Math.round(100 * Math.min(1, part))}
        className="h-[5px] overflow-hidden rounded-full bg-wash"
      >
        <Bar.Indicator
          className={`h-full ${full ? "bg-petrol" : "bg-ink"}`}
          style={{ width: `${100 * Math.min(1, part)}%` }}
        />
      </Bar.Root>
    </div>
  );
}

/** The first free name, as the service proposes it. */
function proposed(model: string, taken: (name: string) => boolean) {
  const base = model
    .toLowerCase()
    .replace(/[^a-z0-9]/g, "-")
    .replace(/^-+|-+$/g, "");
  for (let n = 1; ; n++) if (!taken(`${base}-${n}`)) return `${base}-${n}`;
}

function Make({ sites, onDone }: { sites: Site[]; onDone: () => void }) {
  const [at, setAt] = useState(sites[0]?.site ?? "");
  const s = sites.find((o) => o.site === at) ?? sites[0]!;
  const [model, setModel] = useState(s.models[0]?.model ?? "");
  const m = s.models.find((o) => o.model === model) ?? s.models[0]!;
  const present = s.images
    .filter((i) => i.platform === m.platform && i.state === "present")
    .sort((a, b) => b.os.localeCompare(a.os, undefined, { numeric: true }));
  const [image, setImage] = useState("");
  const [name, setName] = useState("");
  const [boot, setBoot] = useState(true);
  const [busy, setBusy] = useState(false);
  const [trouble, setTrouble] = useState<unknown>();
  const [made, setMade] = useState("");
  const fleet = useFleet();
  return (
    <form
      className="grid gap-y-3"
      onSubmit={(e) => {
        e.preventDefault();
        setBusy(true);
        setTrouble(undefined);
        carryOut({
          what: "make",
          site: s.site,
          model: m.model,
          ...(image ? { image } : {}),
          ...(name ? { device: name } : {}),
          boot,
        })
          .then((d) => (setMade(d.device), setName("")), setTrouble)
          .finally(() => setBusy(false));
      }}
    >
      {sites.length > 1 && (
        <label className="grid gap-1">
          Site
          <Pick label="Site" value={at} onChange={setAt} options={sites.map((o) => [o.site, o.site])} />
        </label>
      )}
      <label className="grid gap-1">
        Model
        <Pick
          label="Model"
          value={m.model}
          onChange={(v) => (setModel(v), setImage(""))}
          options={s.models.map((o) => [o.model, `${o.model}, ${o.form}, takes ${gb(o.takes_mb)}`])}
        />
      </label>
      <label className="grid gap-1">
        OS image
        <Pick
          label="OS image"
          value={image}
          onChange={setImage}
          options={[
            ["", present[0] ? `${present[0].name}, the newest that is here` : "none is here: fetch one first"],
            ...present.slice(1).map((i): [string, string] => [i.name, i.name]),
          ]}
        />
      </label>
      <label className="grid gap-1">
        Name
        <input
          className="field"
          placeholder={proposed(m.model, (n) => fleet.has(n))}
          pattern="[a-z0-9][a-z0-9\-]*"
          title="small letters, digits and hyphens"
          value={name}
          onChange={(e) => setName(e.target.value)}
        />
      </label>
      <Tick label="Boot it as well" on={boot} change={setBoot} />
      {trouble !== undefined && <Trouble of={trouble} />}
      {made && (
        <p role="status">
          <Link className="link font-medium" to={`/fleet/${made}`} onClick={onDone}>
            {made}
          </Link>{" "}
          was made{boot ? " and is up" : ""}.
        </p>
      )}
      <div className="flex justify-end">
        <button type="submit" className="button button-main" disabled={busy || present.length === 0}>
          {busy ? (boot ? "Making and booting…" : "Making…") : "Make it"}
        </button>
      </div>
    </form>
  );
}

function Images({ sites }: { sites: Site[] }) {
  const [trouble, setTrouble] = useState<unknown>();
  const [reading, setReading] = useState<string>();
  return (
    <div>
      {trouble !== undefined && <Trouble of={trouble} />}
      {sites.map((s) => (
        <div key={s.host} className="pb-5">
          <h3 className="border-b border-strong pb-1 font-semibold">{s.site}</h3>
          {s.images.map((i) => {
            const licence = s.licences.find((l) => l.name === i.licence);
            return (
              <div key={i.name} className="border-b border-rule py-1.5">
                <div className="grid grid-cols-[130px_90px_1fr_auto] items-center gap-3">
                  <span className="font-medium">{i.name}</span>
                  <span className="text-soft">{gb(i.size_mb)}</span>
                  <span>
                    {i.state === "fetching" ? (
                      <Gauge
                        label="being fetched"
                        part={i.fetched_mb / Math.max(1, i.size_mb)}
                        words={`${i.fetched_mb} of ${i.size_mb} MB`}
                      />
                    ) : (
                      i.state
                    )}
                    {licence && (
                      <span className="text-sm text-soft">
                        {" "}
                        {licence.accepted_by
                          ? `licence accepted by ${licence.accepted_by}`
                          : "its licence has to be accepted first"}
                      </span>
                    )}
                  </span>
                  <span>
                    {i.state === "absent" &&
                      (licence && !licence.accepted_by ? (
                        <button
                          className="button"
                          onClick={() => setReading(reading === licence.name ? undefined : licence.name)}
                        >
                          Read the licence
                        </button>
                      ) : (
                        <button
                          className="button"
                          onClick={() => {
                            setTrouble(undefined);
                            carryOut({ what: "fetch", site: s.site, image: i.name }).catch(setTrouble);
                            setTimeout(() => outdated("sites"), 300);
                          }}
                        >
                          Fetch it
                        </button>
                      ))}
                  </span>
                </div>
                {licence && reading === licence.name && !licence.accepted_by && (
                  <div className="my-2 border-l-2 border-strong pl-3">
                    <p className="font-medium">{licence.name}</p>
                    <p className="whitespace-pre-line text-soft">{licence.text}</p>
                    <button
                      className="button button-main mt-2"
                      onClick={() => {
                        put(inProject(`licences/${encodeURIComponent(licence.name)}/acceptance`), {}).then(
                          () => outdated("sites"),
                          setTrouble,
                        );
                      }}
                    >
                      Accept it for the project
                    </button>
                  </div>
                )}
              </div>
            );
          })}
        </div>
      ))}
    </div>
  );
}
