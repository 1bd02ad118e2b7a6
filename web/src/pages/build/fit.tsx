import { Link, useSearchParams } from "react-router";
import { useGet, type Fit } from "../../data/api";
import { useFleet } from "../../data/live";
import { plural } from "../../data/time";
import { systemName } from "../../data/weave";
import { Trouble, Waiting } from "../../parts/plain";
import { kindName } from "../builds";
import { alike, tally } from "./words";

/** Each device with the package that it takes, or with every reason why none. */
export function FitView({ path, of }: { path: string; of: string }) {
  const fleet = useFleet();
  const list = useGet<Fit[]>(`${path}/fit${of}`, { refetchInterval: 10_000 });
  const [params, set] = useSearchParams();
  const misfits = params.get("misfits") !== null;
  if (list.error) return <Trouble of={list.error} retry={() => void list.refetch()} />;
  if (!list.data) return <Waiting what="where it runs" />;
  const fits = list.data.filter((f) => f.reasons.length === 0);
  const cannot = list.data.filter((f) => f.reasons.length > 0);
  const groups = alike(misfits ? cannot : [...cannot, ...fits]);
  const shown = groups.slice(0, 300);
  return (
    <div>
      <div className="flex items-baseline justify-between gap-3 pb-1">
        <p>
          <span className="font-medium">
            {fits.length} of {plural(list.data.length, "device")}
          </span>{" "}
          can run it.
        </p>
        <button
          className="link"
          onClick={() =>
            set(
              (p) => {
                if (misfits) p.delete("misfits");
                else p.set("misfits", "");
                return p;
              },
              { replace: true },
            )
          }
        >
          {misfits ? "Show all devices" : "Only those that cannot"}
        </button>
      </div>
      <table className="w-full">
        <thead className="border-b border-rule text-left text-sm text-soft">
          <tr>
            <th className="py-1 pr-3 font-normal">Device</th>
            <th className="pr-3 font-normal">Runs it with</th>
            <th className="font-normal">Now</th>
          </tr>
        </thead>
        <tbody>
          {shown.map(([f, ...others]) => (
            <tr
              key={f.device}
              className="border-b border-rule align-top"
              data-device={f.device}
              data-fits={f.reasons.length === 0}
            >
              <td className="w-[42%] py-1.5 pr-3">
                {[f, ...others.slice(0, 5)].map((o, i) => (
                  <span key={o.device}>
                    {i > 0 && ", "}
                    <Link className="link font-medium" to={`/fleet/${encodeURIComponent(o.device)}`}>
                      {o.device}
                    </Link>
                  </span>
                ))}
                {others.length > 5 && ` and ${others.length - 5} more`}
                <span className="block text-sm text-soft">
                  {f.model}, {systemName(f.platform, f.os)}, {f.kind}
                </span>
              </td>
              <td className="py-1.5 pr-3">
                {f.reasons.length === 0
                  ? kindName(f.package_kind ?? "")
                  : f.reasons.map((r) => (
                      <div key={r.why} className="flex gap-2 pb-1">
                        <span className="verdict verdict-error mt-[5px] flex-none" aria-hidden="true" />
                        <span>
                          <span className="text-petrol">{r.why}</span>
                          <span className="block text-soft">{r.remedy}</span>
                        </span>
                      </div>
                    ))}
              </td>
              <td className="py-1.5 whitespace-nowrap text-soft">
                {tally([f, ...others].map((o) => fleet.get(o.device)?.state ?? o.state))}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {groups.length > 300 && (
        <p className="py-2 text-soft">The first 300 kinds of devices are shown; `yamato build fit` lists all.</p>
      )}
    </div>
  );
}
