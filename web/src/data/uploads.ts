// Packages on their way in. They go on whatever page is open.
import { useSyncExternalStore } from "react";
import { inProject, outdated, post, Problem, problemOf, type Build, type Package } from "./api";

export type Upload = {
  id: number;
  name: string;
  size: number;
  sent: number;
  state: "sending" | "waiting" | "fetching" | "reading" | "read" | "in" | "refused";
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

/** Whether something is still to be waited for. */
export const under = (u: Upload) =>
  u.state === "sending" || u.state === "waiting" || u.state === "fetching" || u.state === "reading";

export function forgetUploads() {
  list = list.filter((u) => under(u));
  for (const l of listeners) l();
}

/** Sends packages, and gathers those of one version into one build. It gives the builds that came of them. */
export const handIn = (files: File[]) =>
  takeIn(files.map((f) => ({ name: f.name, size: f.size, state: "sending", get: (id) => send(id, f) })));

/** Has the service fetch packages, and gathers those of one version into one build. */
export const fetchFrom = (addresses: string[]) =>
  takeIn(
    addresses.map((a) => ({
      name: a.split(/[?#]/)[0]!.split("/").pop() || a,
      size: 0,
      state: "fetching",
      get: (id) => fetched(id, a),
    })),
  );

type Source = Pick<Upload, "name" | "size" | "state"> & { get: (id: number) => Promise<Package | undefined> };

async function takeIn(sources: Source[]): Promise<Build[]> {
  const mine = sources.map(({ name, size, state }): Upload => ({ id: ++last, name, size, sent: 0, state }));
  list = [...list, ...mine];
  for (const l of listeners) l();
  const sent: (Package | undefined)[] = [];
  let next = 0;
  const line = async () => {
    while (next < mine.length) {
      const i = next++;
      sent[i] = await sources[i]!.get(mine[i]!.id);
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
  const made: Build[] = [];
  for (const group of versions.values()) {
    try {
      const build = await post<Build>(inProject("builds"), {
        packages: [...new Set(group.map((g) => g.package.digest))],
      });
      made.push(build);
      for (const g of group) change(g.id, { state: "in", build });
    } catch (e) {
      for (const g of group) change(g.id, { state: "refused", trouble: asProblem(e) });
    }
  }
  outdated("builds");
  return made;
}

/** The answer tells how far it is, as server-sent events. */
async function fetched(id: number, url: string): Promise<Package | undefined> {
  try {
    const r = await fetch(inProject("packages/fetched"), {
      method: "POST",
      headers: { "Content-Type": "application/json", Accept: "text/event-stream, application/json" },
      body: JSON.stringify({ url }),
      credentials: "same-origin",
    });
    if (!r.ok) throw await problemOf(r);
    let rest = "";
    for (const reader = r.body!.pipeThrough(new TextDecoderStream()).getReader(); ;) {
      const { value, done } = await reader.read();
      rest += value ?? "";
      const events = rest.split("\n\n");
      rest = events.pop()!;
      for (const e of events) {
        const [, kind, data] = /^event: (\w+)\ndata: (.*)$/.exec(e) ?? [];
        if (kind === "progress") {
          const at = JSON.parse(data!) as { got: number; of?: number };
          change(id, { sent: at.got, size: at.of ?? 0 });
        } else if (kind === "package") {
          const body = JSON.parse(data!) as Package;
          change(id, { state: "read", sent: body.size, size: body.size, package: body });
          return body;
        } else if (kind === "problem") {
          const p = JSON.parse(data!) as { title: string; status: number; hint?: string };
          throw new Problem(p.title, p.status, p.hint);
        }
      }
      if (done) break;
    }
    throw new Problem(
      "The connection was lost while the service fetched it.",
      0,
      "Fetch it again once the service answers.",
    );
  } catch (e) {
    change(id, {
      state: "refused",
      trouble:
        e instanceof TypeError
          ? new Problem("The service does not answer.", 0, "Fetch it again once it does.")
          : asProblem(e),
    });
  }
}

const asProblem = (e: unknown) => (e instanceof Problem ? e : new Problem(String(e), 0));

// How long an upload waits, in all, for a service that does not answer.
const again = [500, 1000, 2000, 4000, 8000, 15_000, 30_000, 60_000];

// In pieces, by the tus protocol: what is interrupted goes on where it stopped, also
// after the page was loaded anew and the same file was chosen again.
async function send(id: number, file: File): Promise<Package | undefined> {
  const { Upload } = await import("tus-js-client");
  return new Promise((done) => {
    const refuse = (trouble: Problem) => {
      change(id, { state: "refused", trouble });
      done(undefined);
    };
    const upload = new Upload(file, {
      endpoint: inProject("uploads"),
      chunkSize: 32 << 20,
      retryDelays: again,
      removeFingerprintOnSuccess: true,
      metadata: { filename: file.name.slice(-255) },
      onProgress: (sent, size) => change(id, { sent, state: sent === size ? "reading" : "sending" }),
      onShouldRetry: (e) => {
        const status = e.originalResponse?.getStatus() ?? 0;
        if (status === 0) change(id, { state: "waiting" });
        return status === 0 || status >= 500 || status === 423 || status === 409;
      },
      onError: (e) => {
        const answer = "originalResponse" in e ? e.originalResponse : null;
        const title = (() => {
          try {
            return JSON.parse(answer?.getBody() ?? "") as { title?: string; hint?: string };
          } catch {
            return {};
          }
        })();
        if (answer)
          refuse(
            new Problem(title.title ?? `The service answers ${answer.getStatus()}.`, answer.getStatus(), title.hint),
          );
        else
          refuse(
            new Problem(
              "The connection was lost before all of it was sent.",
              0,
              "Choose the file again once the service answers: it goes on where it stopped.",
            ),
          );
      },
      onSuccess: () => {
        change(id, { state: "reading", sent: file.size });
        post<Package>(inProject(`uploads/${upload.url!.split("/").pop()!}/package`), {}).then(
          (body) => {
            change(id, { state: "read", sent: file.size, package: body });
            done(body);
          },
          (e: unknown) => refuse(asProblem(e)),
        );
      },
    });
    void upload.findPreviousUploads().then((before) => {
      if (before[0]) upload.resumeFromPreviousUpload(before[0]);
      upload.start();
    });
  });
}
