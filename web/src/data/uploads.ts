// Packages on their way in. They go on whatever page is open.
import { useSyncExternalStore } from "react";
import { inProject, outdated, post, Problem, type Build, type Package } from "./api";

export type Upload = {
  id: number;
  name: string;
  size: number;
  sent: number;
  state: "sending" | "reading" | "read" | "in" | "refused";
  package?: Package;
  build?: Build;
  trouble?: Problem;
};

let list: readonly Upload[] = [];
let last = 0;
const listeners = new Set<() => void>();

function change(id: number, part: Partial<Upload>) {
  list = list.map((u) => (u.id === id ? { ...u, ...part } : u));
  for (const l of listeners) l();
}

export const useUploads = () =>
  useSyncExternalStore(
    (l) => {
      listeners.add(l);
      return () => listeners.delete(l);
    },
    () => list,
  );

export function forgetUploads() {
  list = list.filter((u) => u.state === "sending" || u.state === "reading");
  for (const l of listeners) l();
}

/** Sends packages, and gathers those of one version into one build. */
export async function handIn(files: File[]) {
  const mine = files.map((f): Upload => ({ id: ++last, name: f.name, size: f.size, sent: 0, state: "sending" }));
  list = [...list, ...mine];
  for (const l of listeners) l();
  const sent: (Package | undefined)[] = [];
  let next = 0;
  const line = async () => {
    while (next < mine.length) {
      const i = next++;
      sent[i] = await send(mine[i]!.id, files[i]!);
    }
  };
  // Two at a time: a browser has six connections to a service, and pages need some.
  await Promise.all([line(), line()]);
  const versions = new Map<string, { id: number; package: Package }[]>();
  sent.forEach((p, i) => {
    if (!p) return;
    const version = [p.name || p.application_id, p.version_name, p.version_code].join("\n");
    versions.set(version, [...(versions.get(version) ?? []), { id: mine[i]!.id, package: p }]);
  });
  for (const group of versions.values()) {
    try {
      const build = await post<Build>(inProject("builds"), { packages: [...new Set(group.map((g) => g.package.digest))] });
      for (const g of group) change(g.id, { state: "in", build });
    } catch (e) {
      for (const g of group) change(g.id, { state: "refused", trouble: asProblem(e) });
    }
  }
  outdated("builds");
}

const asProblem = (e: unknown) => (e instanceof Problem ? e : new Problem(String(e), 0));

// XMLHttpRequest, since fetch does not tell how far an upload has got.
function send(id: number, file: File): Promise<Package | undefined> {
  return new Promise((done) => {
    const refuse = (trouble: Problem) => {
      change(id, { state: "refused", trouble });
      done(undefined);
    };
    const x = new XMLHttpRequest();
    x.open("POST", inProject(`packages?file_name=${encodeURIComponent(file.name.slice(-255))}`));
    x.setRequestHeader("Content-Type", "application/octet-stream");
    x.upload.onprogress = (e) => change(id, { sent: e.loaded, state: e.loaded === e.total ? "reading" : "sending" });
    x.onerror = () => refuse(new Problem("The connection was lost before all of it was sent.", 0, "Hand it in again once the service answers."));
    x.onload = () => {
      try {
        const body = JSON.parse(x.responseText) as Package & { title?: string; hint?: string };
        if (x.status !== 200) return refuse(new Problem(body.title ?? `The service answers ${x.status}.`, x.status, body.hint));
        change(id, { state: "read", sent: file.size, package: body });
        done(body);
      } catch {
        refuse(new Problem(`The service answers ${x.status}.`, x.status));
      }
    };
    x.send(file);
  });
}
