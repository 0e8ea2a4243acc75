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
    return { name: "ledger", query: { gate: hit.gate, state: "held" } };
  }
  if (hit.gate !== null) return { name: "gate", params: { gate: hit.gate } };
  return { name: "ledger", query: { text: hit.title } };
}
