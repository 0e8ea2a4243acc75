/** What is searched for in the ledger: as chosen, in the address, as asked. */

import type { LocationQuery } from "vue-router";
import { ENTRY_STATES, type EntryQuery, type EntryState } from "./types";

export const PERIODS = [
  { value: "", name: "any time", hours: 0 },
  { value: "1h", name: "in the last hour", hours: 1 },
  { value: "24h", name: "in the last 24 hours", hours: 24 },
  { value: "7d", name: "in the last 7 days", hours: 7 * 24 },
] as const;
export type Period = (typeof PERIODS)[number]["value"];

export interface Filter {
  text: string;
  gate: string;
  state: EntryState | "";
  period: Period;
  repeats: boolean;
  /** Only files that are in this output. */
  output: string;
}

/** What an address asks for; what it cannot mean is left out. */
export function toFilter(query: LocationQuery): Filter {
  const text = (name: string) => {
    const value = query[name];
    return typeof value === "string" ? value : "";
  };
  return {
    text: text("text"),
    gate: text("gate"),
    state: ENTRY_STATES.find((state) => state === text("state")) ?? "",
    period: PERIODS.find((period) => period.value === text("entered"))?.value ?? "",
    repeats: text("repeats") === "true",
    output: text("output"),
  };
}

/** The address of a filter: only what filters. */
export function toRoute(filter: Filter): Record<string, string> {
  const all = {
    text: filter.text,
    gate: filter.gate,
    state: filter.state,
    entered: filter.period,
    repeats: filter.repeats ? "true" : "",
    output: filter.output,
  };
  return Object.fromEntries(Object.entries(all).filter(([, value]) => value !== ""));
}

/** The question for the service; `now` in milliseconds. */
export function toQuery(filter: Filter, now: number): EntryQuery {
  const query: EntryQuery = {};
  if (filter.text !== "") query.text = filter.text;
  if (filter.gate !== "") query.gate = filter.gate;
  if (filter.state !== "") query.state = filter.state;
  if (filter.repeats) query.repeats = true;
  if (filter.output !== "") query.output = filter.output;
  const hours = PERIODS.find((period) => period.value === filter.period)?.hours ?? 0;
  if (hours > 0) query.since = new Date(now - hours * 3_600_000).toISOString();
  return query;
}
