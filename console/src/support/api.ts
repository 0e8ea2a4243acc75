/** Calls of the API. */

export class ApiError extends Error {
  constructor(
    readonly status: number,
    detail: string,
  ) {
    super(detail);
  }
}

type Values = Record<string, string | number | boolean | undefined>;

/** A path with the query of the values that are there. */
export function withQuery(path: string, values: Values): string {
  const query = new URLSearchParams();
  for (const [name, value] of Object.entries(values)) {
    if (value !== undefined && value !== "") query.set(name, String(value));
  }
  const text = query.toString();
  return text === "" ? path : `${path}?${text}`;
}

/** Answers that are asked for again and again, with the tag by which the service knows them. */
const tagged = new Map<string, { tag: string; data: unknown }>();

/** Forgets them: somebody else may sign in. */
export const forgetTagged = () => tagged.clear();

async function call<T>(method: string, path: string, body?: unknown, keep = false): Promise<T> {
  const request: RequestInit = { method };
  const known = keep ? tagged.get(path) : undefined;
  if (known) request.headers = { "If-None-Match": known.tag };
  if (body !== undefined) {
    request.headers = { "Content-Type": "application/json" };
    request.body = JSON.stringify(body);
  }
  let answer: Response;
  try {
    answer = await fetch(`/api/v1${path}`, request);
  } catch {
    throw new ApiError(0, "The service does not answer. Is it running?");
  }
  if (known && answer.status === 304) return known.data as T;
  const tag = keep && answer.ok ? answer.headers.get("ETag") : null;
  if (tag !== null) {
    const data: unknown = await answer.json();
    tagged.set(path, { tag, data });
    return data as T;
  }
  if (answer.ok) return (answer.status === 204 ? undefined : await answer.json()) as T;
  const problem: unknown = await answer.json().catch(() => null);
  throw new ApiError(answer.status, detailOf(problem) ?? `The service answered ${answer.status}.`);
}

/** A request with headers and bytes of its own; the answer, when it is a good one. */
export async function raw(
  method: string,
  path: string,
  headers: Record<string, string>,
  body: Blob | null = null,
): Promise<Response> {
  let answer: Response;
  try {
    answer = await fetch(`/api/v1${path}`, { method, headers, body });
  } catch {
    throw new ApiError(0, "The service does not answer. Is it running?");
  }
  if (answer.ok) return answer;
  const problem: unknown = await answer.json().catch(() => null);
  throw new ApiError(answer.status, detailOf(problem) ?? `The service answered ${answer.status}.`);
}

function detailOf(problem: unknown): string | null {
  if (typeof problem !== "object" || problem === null || !("detail" in problem)) return null;
  return typeof problem.detail === "string" ? problem.detail : null;
}

export const get = <T>(path: string, values: Values = {}) => call<T>("GET", withQuery(path, values));
/** As {@link get}; when nothing has changed since, the same data is given, and little is sent. */
export const getTagged = <T>(path: string) => call<T>("GET", path, undefined, true);
export const post = <T>(path: string, body?: unknown) => call<T>("POST", path, body);
export const put = <T>(path: string, body?: unknown) => call<T>("PUT", path, body);
export const remove = (path: string) => call<void>("DELETE", path);
