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

async function call<T>(method: string, path: string, body?: unknown): Promise<T> {
  const request: RequestInit = { method };
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
  if (answer.ok) return (answer.status === 204 ? undefined : await answer.json()) as T;
  const problem: unknown = await answer.json().catch(() => null);
  throw new ApiError(answer.status, detailOf(problem) ?? `The service answered ${answer.status}.`);
}

function detailOf(problem: unknown): string | null {
  if (typeof problem !== "object" || problem === null || !("detail" in problem)) return null;
  return typeof problem.detail === "string" ? problem.detail : null;
}

export const get = <T>(path: string, values: Values = {}) => call<T>("GET", withQuery(path, values));
export const post = <T>(path: string, body?: unknown) => call<T>("POST", path, body);
export const remove = (path: string) => call<void>("DELETE", path);
