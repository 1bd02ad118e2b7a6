// The service's calls, with their types from api/openapi.yaml.
import { QueryClient, useQuery, type UseQueryOptions } from "@tanstack/react-query";
import type { components } from "./api.gen";

type Schemas = components["schemas"];
export type About = Schemas["About"];
export type Waits = Schemas["Waiting"];
export type Build = Schemas["Build"];
export type Cause = Schemas["Cause"];
export type Changes = Schemas["Changes"];
export type Check = Schemas["Check"];
export type Checklist = Schemas["Checklist"];
export type Choice = Schemas["Choice"];
export type Combination = Schemas["Combination"];
export type Crash = Schemas["Crash"];
export type CrashDetail = Schemas["CrashDetail"];
export type CrashList = Schemas["CrashList"];
export type CoveredDevices = Schemas["CoveredDevices"];
export type NamedPicture = Schemas["NamedPicture"];
export type Pictures = Schemas["Pictures"];
export type Summary = Schemas["Summary"];
export type Tally = Schemas["Tally"];
export type Device = Schemas["Device"];
export type DeviceDetail = Schemas["DeviceDetail"];
export type Element = Schemas["Element"];
export type Errand = Schemas["Errand"];
export type Evidence = Schemas["Evidence"];
export type Finding = Schemas["Finding"];
export type Fit = Schemas["Fit"];
export type Found = Schemas["Found"];
export type Frame = Schemas["Frame"];
export type Glimpse = Schemas["Glimpse"];
export type Handover = Schemas["Handover"];
export type LeftOut = Schemas["LeftOut"];
export type Lineup = Schemas["Lineup"];
export type NewErrand = Schemas["NewErrand"];
export type NewRun = Schemas["NewRun"];
export type Now = Schemas["Now"];
export type Package = Schemas["Package"];
export type CalendarEntry = Schemas["CalendarEntry"];
export type Coverage = Schemas["Coverage"];
export type Level = Schemas["Level"];
export type Plan = Schemas["Plan"];
export type PlanStart = Schemas["PlanStart"];
export type PlanTrial = Schemas["PlanTrial"];
export type PlanRevision = Schemas["PlanRevision"];
export type Result = Schemas["Result"];
export type Run = Schemas["Run"];
export type RunDetail = Schemas["RunDetail"];
export type RunEvent = Schemas["RunEvent"];
export type RunPreview = Schemas["RunPreview"];
export type Screen = Schemas["Screen"];
export type Settings = Schemas["Settings"];
export type SavedPlace = Schemas["SavedPlace"];
export type SeenFault = Schemas["SeenFault"];
export type DrawnMark = Schemas["DrawnMark"];
export type Session = Schemas["Session"];
export type SessionEntry = Schemas["SessionEntry"];
export type Sheet = Schemas["Sheet"];
export type SheetAttempt = Schemas["SheetAttempt"];
export type Site = Schemas["Site"];
export type Step = Schemas["Step"];
export type Suite = Schemas["Suite"];
export type SuiteDetail = Schemas["SuiteDetail"];
export type SuiteText = Schemas["SuiteText"];
export type SuiteFile = Schemas["SuiteFile"];
export type ScriptLanguage = Schemas["ScriptLanguage"];
export type Surrounding = Schemas["Surrounding"];
export type SeenElement = Schemas["SeenElement"];

/** What the service says went wrong (RFC 9457), or that it did not answer. */
export class Problem extends Error {
  constructor(
    title: string,
    readonly status: number,
    readonly hint?: string,
    readonly leftOut?: Schemas["LeftOut"][],
  ) {
    super(title);
  }
}

const unreachable = () =>
  new Problem(
    "The service does not answer.",
    0,
    "What you see is from before. It is asked again as soon as it is back.",
  );

export async function problemOf(r: Response): Promise<Problem> {
  try {
    const p = (await r.json()) as Schemas["Problem"];
    return new Problem(p.title, p.status, p.hint, p.left_out);
  } catch {
    return new Problem(`The service answers ${r.status}.`, r.status, "Try again; the service's log says more.");
  }
}

async function call<T>(method: string, path: string, body?: unknown, key?: string): Promise<T> {
  const headers: Record<string, string> = {};
  if (body !== undefined) headers["Content-Type"] = "application/json";
  if (key) headers["Idempotency-Key"] = key;
  let r: Response;
  try {
    r = await fetch(path, {
      method,
      headers,
      body: body === undefined ? undefined : JSON.stringify(body),
      credentials: "same-origin",
    });
  } catch {
    throw unreachable();
  }
  if (!r.ok) throw await problemOf(r);
  return (r.status === 204 ? undefined : await r.json()) as T;
}

export const get = <T>(path: string) => call<T>("GET", path);

/** What somebody wished for: a second click is the same wish, and so is trying again after a call that got no answer. */
type Wish = { key: string; under: Promise<unknown> | undefined };
const wishes = new Map<string, Wish>();
const mostWishes = 50;
/** Calls that make something, which two clicks would make twice. What they gave is given again for a moment. */
const making = /\/(runs|sessions|again|checklist-runs|findings|handovers)$/;
const sameFor = 1000; // milliseconds: a double click's second one comes before

export function post<T>(path: string, body: unknown): Promise<T> {
  const of = `${path}\n${JSON.stringify(body)}`;
  const before = wishes.get(of);
  if (before?.under) return before.under as Promise<T>;
  const wish: Wish = { key: before?.key ?? crypto.randomUUID?.() ?? String(Math.random()), under: undefined };
  const forget = () => wishes.get(of) === wish && wishes.delete(of);
  const under = call<T>("POST", path, body, wish.key);
  wish.under = under;
  wishes.set(of, wish);
  for (const oldest of wishes.keys()) if (wishes.size > mostWishes) wishes.delete(oldest);
  under.then(
    () => (making.test(path) ? setTimeout(forget, sameFor) : forget()),
    (e: unknown) => {
      if (e instanceof Problem && e.status === 0)
        wish.under = undefined; // it may have come about: the next is the same
      else forget();
    },
  );
  return under;
}
export const put = <T>(path: string, body: unknown) => call<T>("PUT", path, body);
export const patch = <T>(path: string, body: unknown) => call<T>("PATCH", path, body);
export const remove = (path: string) => call<void>("DELETE", path);

let project = "default";
export const setProject = (name: string) => (project = name);
export const inProject = (path: string) => `/api/v1/projects/${encodeURIComponent(project)}/${path}`;

export const queries = new QueryClient({
  defaultOptions: {
    queries: {
      staleTime: 2_000,
      refetchOnWindowFocus: false,
      retry: (n, e) => e instanceof Problem && (e.status === 0 || e.status >= 500) && n < 8,
      retryDelay: (n) => Math.min(300 * 2 ** n, 4000),
    },
  },
});

/** Reads something of the project, and keeps it under its path. */
export function useGet<T>(path: string, options?: Partial<UseQueryOptions<T, Problem>>) {
  return useQuery<T, Problem>({ queryKey: [path], queryFn: () => get<T>(inProject(path)), ...options });
}

/** Has what begins with these paths read again where it is shown. */
export function outdated(...paths: string[]) {
  void queries.invalidateQueries({ predicate: (q) => paths.some((p) => String(q.queryKey[0]).startsWith(p)) });
}

/** Asks a host to do something outside of runs, and waits until it is done. */
export async function carryOut(errand: NewErrand): Promise<Errand> {
  let e = await post<Errand>(inProject("errands"), errand);
  while (!e.done_at) e = await get<Errand>(inProject(`errands/${e.id}?wait_ms=20000`));
  outdated("devices", "sites");
  if (e.trouble) throw new Problem(e.trouble, 409, e.remedy);
  return e;
}

export const evidencePath = (run: number, id: number) => inProject(`runs/${run}/evidence/${id}`);
export const framePath = (run: number, f: Frame) => inProject(`runs/${run}/evidence/${f.evidence}/frames/${f.index}`);
