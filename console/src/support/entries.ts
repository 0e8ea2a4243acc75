/** What is said of entries in lists. */

import { counted } from "./format";
import type { Entry } from "./types";

/** What is most worth knowing of an entry, in a few words. */
export function noteOf(entry: Pick<Entry, "repeat_of" | "reason" | "rows">): string {
  if (entry.repeat_of !== null) return `repeat of entry ${entry.repeat_of}`;
  if (entry.reason !== null) return entry.reason;
  return entry.rows === null ? "" : counted(entry.rows, "row");
}

/** The fields that entries have, in order. */
export function fieldsOf(entries: Pick<Entry, "fields">[]): string[] {
  return [...new Set(entries.flatMap((entry) => Object.keys(entry.fields)))].sort();
}
