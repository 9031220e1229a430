/** What the service answers to a call: data, a problem with its status, or nothing ever. */
export type Answer = { status?: number; body?: unknown } | "never";
type Answerer = (path: string, body: unknown) => Answer | undefined | Promise<Answer>;

/** One call that the page made. */
export interface Call {
  method: string;
  path: string;
  query: Record<string, string>;
  body: unknown;
}

/** A problem as the service writes one (RFC 9457). */
export const problem = (status: number, code: string, detail: string, title = "Not done"): Answer => ({
  status,
  body: { type: `/docs/errors#${code}`, title, status, detail, diagnostics: [] },
});

let answering: (request: Request) => Promise<Response> = () => Promise.reject(new TypeError("no service"));
// Once, before the client of the API is made, which keeps what it finds.
globalThis.fetch = (asked, how) =>
  answering(asked instanceof Request ? asked : new Request(new URL(asked, location.href), how));

/** Stands where the service is for the page that is tested; gives the calls that were made. What it has no answer for, it has not. */
export function serve(
  answers: Record<string, Answer | Answerer>,
  otherwise: Answer = problem(404, "not-found", "There is no such thing."),
) {
  const calls: Call[] = [];
  answering = async (request) => {
    const url = new URL(request.url);
    const text = request.method === "GET" ? "" : await request.clone().text();
    let body: unknown = text;
    try {
      body = JSON.parse(text);
    } catch {
      // Not every body is JSON.
    }
    const path = url.pathname.replace("/api/v1", "");
    calls.push({ method: request.method, path, query: Object.fromEntries(url.searchParams), body });
    const found = answers[`${request.method} ${path}`];
    const answer = (await (typeof found === "function" ? found(path, body) : found)) ?? otherwise;
    if (answer === "never") return new Promise<Response>(() => undefined);
    const { status = 200, body: said } = answer;
    if (said === undefined) return new Response(null, { status: status === 200 ? 204 : status });
    return new Response(JSON.stringify(said), { status, headers: { "content-type": "application/json" } });
  };
  return calls;
}

/** Somebody who is signed in and may do everything. */
export const lena = {
  person: "lena",
  full_name: "Lena Brandvold",
  stage: "full",
  wanted: [],
  may: [
    "read-everything",
    "read-directory",
    "read-rules",
    "manage-service",
    "manage-machines",
    "manage-people",
    "issue-pins",
  ],
  roles: ["administrator"],
};
