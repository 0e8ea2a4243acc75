/** Handing a file in at the door of a gate, piece by piece: what is cut off goes on. */

import { ApiError, raw, withQuery } from "./api";
import type { HandedIn } from "./types";

const PIECE = 8 * 1024 * 1024;
const TRIES = 6;

/** What a path must be escaped for; its slashes stay. */
export const pathOf = (path: string) =>
  path
    .split("/")
    .map((part) =>
      encodeURIComponent(part).replace(/[!'()*]/g, (c) => `%${c.charCodeAt(0).toString(16).toUpperCase()}`),
    )
    .join("/");

export interface HandInOptions {
  /** Who does it; null where the service knows. */
  who: string | null;
  /** SHA-256 of the held file that it replaces. */
  replaces?: string;
  /** Told how many bytes are there. */
  progress?: (bytes: number) => void;
  /** Milliseconds before it is tried again for the first time. @default 500 */
  pause?: number;
}

/** Whether the same may go through a little later. */
const passes = (error: unknown) => error instanceof ApiError && (error.status === 0 || error.status >= 500);

/** Hands a file in under a path; gives what became of it. */
export async function handIn(gate: string, path: string, file: Blob, options: HandInOptions): Promise<HandedIn> {
  const begin = withQuery(`/gates/${encodeURIComponent(gate)}/drop/${pathOf(path)}`, { who: options.who ?? undefined });
  const headers: Record<string, string> = { "Upload-Complete": "?0", "Upload-Length": String(file.size) };
  if (options.replaces !== undefined) headers["If-Match"] = `"${options.replaces}"`;
  const begun = await raw("PUT", begin, headers);
  const place = (begun.headers.get("Location") ?? "").replace(/^\/api\/v1/, "");
  let offset = Number(begun.headers.get("Upload-Offset") ?? 0);
  for (let failed = 0; ;) {
    options.progress?.(offset);
    const last = offset + PIECE >= file.size;
    try {
      const answer = await raw(
        "PATCH",
        place,
        {
          "Content-Type": "application/partial-upload",
          "Upload-Offset": String(offset),
          "Upload-Complete": last ? "?1" : "?0",
        },
        file.slice(offset, offset + PIECE),
      );
      if (last) return (await answer.json()) as HandedIn;
      offset = Number(answer.headers.get("Upload-Offset"));
      failed = 0;
    } catch (error) {
      if (!passes(error) || failed >= TRIES) throw error;
      await new Promise((go) => setTimeout(go, (options.pause ?? 500) * 2 ** failed));
      failed += 1;
      // What came of it is there: it goes on behind that.
      const there = await raw("HEAD", place, {}).catch(() => null);
      offset = Number(there?.headers.get("Upload-Offset") ?? offset);
    }
  }
}
