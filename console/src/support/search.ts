/** Where what was found is shown. */

import type { RouteLocationRaw } from "vue-router";
import type { Hit } from "./types";

export const KINDS: Record<Hit["kind"], string> = {
  answer: "path",
  entry: "entry",
  gate: "gate",
  held: "held",
  file: "arriving",
  output: "output",
};

/** The page of something that was found. */
export function placeOf(hit: Hit): RouteLocationRaw {
  if (hit.entry !== null) return { name: "entry", params: { id: String(hit.entry) } };
  if (hit.path !== null) return { name: "table", query: { path: hit.path } };
  if (hit.kind === "held" && hit.gate !== null) {
    return { name: "held", query: { gate: hit.gate } };
  }
  if (hit.gate !== null) return { name: "gate", params: { gate: hit.gate } };
  return { name: "ledger", query: { text: hit.title } };
}

/** The ledger, with all that a text is about: a field with its value, or part of a path. */
export const inLedger = (text: string): RouteLocationRaw => ({
  name: "ledger",
  query: /^[\w-]+=/.test(text) ? { field: text } : { text },
});
