// The calls of an app, as HTTP Archive 1.2 has them.

export type Call = {
  at: number; // ms since the case began
  took: number;
  wait: number;
  method: string;
  address: string;
  short: string; // path and query
  host: string;
  status: number;
  bytes: number;
  kind: string;
  trouble?: string;
  asked: { headers: Pair[]; body?: string; note?: string };
  answered: { headers: Pair[]; body?: string; note?: string };
};
type Pair = { name: string; value: string };

type Entry = {
  time: number;
  _at_ms?: number;
  _trouble?: string;
  startedDateTime: string;
  request: { method: string; url: string; headers: Pair[]; postData?: { text: string; comment?: string } };
  response: {
    status: number;
    headers: Pair[];
    bodySize: number;
    content: { mimeType: string; text?: string; comment?: string };
  };
  timings: { wait: number; receive: number };
};

/** Reads an archive. */
export function calls(archive: { log: { entries: Entry[] } }): Call[] {
  const list = archive.log.entries;
  const first = list.length ? Date.parse(list[0]!.startedDateTime) : 0;
  return list
    .map((e): Call => {
      let short = e.request.url;
      let host = "";
      try {
        const u = new URL(e.request.url);
        short = u.pathname + u.search;
        host = u.host;
      } catch {
        // it is told as it is
      }
      return {
        at: e._at_ms ?? Date.parse(e.startedDateTime) - first,
        took: e.time,
        wait: e.timings.wait,
        method: e.request.method,
        address: e.request.url,
        short,
        host,
        status: e.response.status,
        bytes: e.response.bodySize,
        kind: e.response.content.mimeType,
        trouble: e._trouble,
        asked: { headers: e.request.headers, body: e.request.postData?.text, note: e.request.postData?.comment },
        answered: { headers: e.response.headers, body: e.response.content.text, note: e.response.content.comment },
      };
    })
    .sort((a, b) => a.at - b.at);
}

/** Whether it got no answer, or one that says that it failed. */
export const failed = (c: Call) => c.status === 0 || c.status >= 400;
