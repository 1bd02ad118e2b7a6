import { Tabs } from "radix-ui";
import { useState } from "react";
import { useParams, useSearchParams } from "react-router";
import { inProject, outdated, patch, useGet, type Build } from "../data/api";
import { useTitle } from "../data/live";
import { at } from "../data/time";
import { useStart } from "../parts/use-start";
import { buildKey } from "../parts/start";
import { Heading, Modal, Trouble, Waiting } from "../parts/plain";
import { AppIcon, Labels } from "./builds";
import { ChangesView } from "./build/changes";
import { FitView } from "./build/fit";
import { Hand, NoteForm, RunsOf } from "./build/hand";
import { PackageView } from "./build/packages";
import { SettingsView } from "./build/settings";
import { type BuildPatch } from "./build/words";

const views = [
  ["fit", "Where it runs"],
  ["packages", "Packages"],
  ["changes", "What changed"],
  ["settings", "Settings to copy"],
] as const;

export function BuildPage() {
  const { build = "" } = useParams();
  const [params, set] = useSearchParams();
  const app = params.get("app");
  const of = app ? `?app=${encodeURIComponent(app)}` : "";
  const path = `builds/${encodeURIComponent(/^\d+$/.test(build) ? `#${build}` : build)}`; // a version may be called 12 too
  const b = useGet<Build>(path + of);
  const start = useStart();
  const [asked, setAsked] = useState<"" | "note" | "hand">("");
  const [trouble, setTrouble] = useState<unknown>();
  useTitle(b.data ? `${b.data.app} ${b.data.version_name}` : "Build");
  if (b.error)
    return (
      <div className="p-5">
        <Trouble of={b.error} retry={() => void b.refetch()} />
      </div>
    );
  if (!b.data)
    return (
      <div className="p-5">
        <Waiting what="the build" />
      </div>
    );
  const one = b.data;
  const change = (part: Partial<BuildPatch>) =>
    patch<Build>(inProject(path + of), part).then(() => {
      setTrouble(undefined);
      outdated("builds");
    }, setTrouble);
  const view = views.some(([v]) => v === params.get("view")) ? params.get("view")! : "fit";
  return (
    <div className="mx-auto max-w-[1240px] px-5 py-5">
      <Heading
        title={
          <span className="flex items-center gap-3">
            <AppIcon b={one} large />
            <span>
              {one.app} {one.version_name} ({one.version_code})
            </span>
          </span>
        }
        about={
          <div className="space-y-0.5 pt-1">
            <div className="flex flex-wrap items-center gap-2">
              Build {one.number}, handed in {at(one.created_at)}. <Labels b={one} />
            </div>
            {one.note && <div>{one.note}</div>}
          </div>
        }
      >
        <button className="button" onClick={() => setAsked("note")}>
          Note and labels
        </button>
        <button
          className="button"
          aria-pressed={one.pinned}
          title="Retention never removes a pinned build"
          onClick={() => void change({ pinned: !one.pinned })}
        >
          {one.pinned ? "Unpin" : "Pin"}
        </button>
        <button className="button" onClick={() => setAsked("hand")}>
          Hand to a phone
        </button>
        <button className="button button-main" onClick={() => start({ with: buildKey(one) })}>
          Start a run of it
        </button>
      </Heading>
      {trouble !== undefined && <Trouble of={trouble} />}
      {one.removed_at && (
        <p className="pb-3 text-petrol">
          Retention removed its packages on {at(one.removed_at)}. What ran of it stays; push it again to run it again.
        </p>
      )}
      <div className="grid gap-x-10 lg:grid-cols-[1.9fr_1fr]">
        <Tabs.Root
          value={view}
          onValueChange={(v) =>
            set(
              (p) => {
                if (v === "fit") p.delete("view");
                else p.set("view", v);
                return p;
              },
              { replace: true },
            )
          }
        >
          <Tabs.List aria-label="About the build" className="mb-2 flex gap-1 border-b border-strong">
            {views.map(([v, words]) => (
              <Tabs.Trigger
                key={v}
                value={v}
                className="-mb-px border-b-2 border-transparent px-2 pb-1.5 text-soft hover:text-ink data-[state=active]:border-ink data-[state=active]:font-medium data-[state=active]:text-ink"
              >
                {words}
              </Tabs.Trigger>
            ))}
          </Tabs.List>
          <Tabs.Content value="fit">
            <FitView path={path} of={of} />
          </Tabs.Content>
          <Tabs.Content value="packages">
            {one.packages.map((p) => (
              <PackageView key={p.digest} p={p} />
            ))}
          </Tabs.Content>
          <Tabs.Content value="changes">
            <ChangesView path={path} of={of} />
          </Tabs.Content>
          <Tabs.Content value="settings">
            <SettingsView path={path} app={one.app} />
          </Tabs.Content>
        </Tabs.Root>
        <RunsOf b={one} />
      </div>
      <Modal title="Note and labels" open={asked === "note"} onClose={() => setAsked("")}>
        {asked === "note" && <NoteForm b={one} onSave={(part) => void change(part).then(() => setAsked(""))} />}
      </Modal>
      <Modal
        title="Hand to a phone"
        about="A page from which a phone can install the build, for an hour."
        open={asked === "hand"}
        onClose={() => setAsked("")}
      >
        {asked === "hand" && <Hand path={path} of={of} />}
      </Modal>
    </div>
  );
}
