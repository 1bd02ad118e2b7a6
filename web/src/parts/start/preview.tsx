import { type RunPreview } from "../../data/api";
import { plural } from "../../data/time";
import { combinationKey, combinationWhole } from "../../data/weave";

export function Preview({ of }: { of: RunPreview }) {
  return (
    <div className="space-y-3">
      <table className="w-full">
        <thead className="text-left text-sm text-soft">
          <tr>
            <th className="font-normal">Combination</th>
            <th className="font-normal">Package</th>
            <th className="text-right font-normal">Free now</th>
          </tr>
        </thead>
        <tbody>
          {of.combinations.map((c) => (
            <tr key={combinationKey(c.combination)} className="border-t border-rule">
              <td className="py-0.5 pr-2">{combinationWhole(c.combination)}</td>
              <td className="max-w-36 truncate pr-2 text-sm text-soft" title={c.package}>
                {c.package}
              </td>
              <td className="text-right whitespace-nowrap">
                {c.idle} of {c.devices}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {of.left_out.length > 0 && (
        <div>
          <h3 className="font-medium text-petrol">{plural(of.left_out.length, "combination")} cannot run</h3>
          {of.left_out.map((l) => (
            <div key={combinationKey(l.combination)} className="border-t border-rule py-1">
              {combinationWhole(l.combination)}
              {l.reasons.map((r) => (
                <p key={r.why} className="text-sm text-soft">
                  {r.why}: {r.remedy}
                </p>
              ))}
            </div>
          ))}
        </div>
      )}
    </div>
  );
}
