/** What is searched for in the ledger: as chosen, in the address, as asked. */

import type { LocationQuery } from "vue-router";
import { dayAfter, moment, startOfDay } from "./format";
import { ENTRY_STATES, type EntryQuery, type EntryState } from "./types";

export const PERIODS = [
  { value: "", name: "any time", hours: 0 },
  { value: "1h", name: "in the last hour", hours: 1 },
  { value: "24h", name: "in the last 24 hours", hours: 24 },
  { value: "7d", name: "in the last 7 days", hours: 7 * 24 },
  { value: "days", name: "from … to …", hours: 0 },
] as const;
export type Period = (typeof PERIODS)[number]["value"];

/** The last seven days by their names, today first, as they are in a time zone. */
export function lastDays(now: number, zone: string): { value: string; name: string }[] {
  const today = moment(new Date(now).toISOString(), zone).slice(0, 10);
  const noon = Date.parse(`${today}T12:00:00Z`);
  return [0, 1, 2, 3, 4, 5, 6].map((ago) => {
    const day = new Date(noon - ago * 86_400_000);
    const name = day.toLocaleDateString("en-GB", { weekday: "long", day: "numeric", month: "short", timeZone: "UTC" });
    return { value: day.toISOString().slice(0, 10), name: ago === 0 ? `today, ${name}` : name };
  });
}

/** In which order entries are listed, last or greatest first unless it is turned round. */
export const ORDERS = ["entered", "name", "size"] as const;
export type Order = (typeof ORDERS)[number];

export interface Filter {
  text: string;
  gate: string;
  state: EntryState | "";
  period: Period;
  /** The first and the last day, where the period is `days`; empty for none. */
  from: string;
  to: string;
  repeats: boolean;
  /** Fields with their values: NAME=VALUE, separated by commas. */
  field: string;
  /** Only files that are in this output. */
  output: string;
  sort: Order;
  /** Whether the order is turned round. */
  up: boolean;
  /** Fields that are shown as columns. */
  columns: string[];
}

const DAY = /^\d{4}-\d{2}-\d{2}$/;

/** What an address asks for; what it cannot mean is left out. */
export function toFilter(query: LocationQuery): Filter {
  const text = (name: string) => {
    const value = query[name];
    return typeof value === "string" ? value : "";
  };
  const day = (name: string) => (DAY.test(text(name)) ? text(name) : "");
  const days = day("from") !== "" || day("to") !== "";
  return {
    text: text("text"),
    gate: text("gate"),
    state: ENTRY_STATES.find((state) => state === text("state")) ?? "",
    period: days ? "days" : (PERIODS.find((period) => period.value === text("entered"))?.value ?? ""),
    from: day("from"),
    to: day("to"),
    repeats: text("repeats") === "true",
    field: text("field"),
    output: text("output"),
    sort: ORDERS.find((order) => order === text("sort")) ?? "entered",
    up: text("order") === "up",
    columns: text("columns")
      .split(",")
      .filter((name) => name !== ""),
  };
}

/** The address of a filter: only what is not as it is by itself. */
export function toRoute(filter: Filter): Record<string, string> {
  const days = filter.period === "days";
  const all = {
    text: filter.text,
    gate: filter.gate,
    state: filter.state,
    entered: days && (filter.from !== "" || filter.to !== "") ? "" : filter.period,
    from: days ? filter.from : "",
    to: days ? filter.to : "",
    repeats: filter.repeats ? "true" : "",
    field: filter.field,
    output: filter.output,
    sort: filter.sort === "entered" ? "" : filter.sort,
    order: filter.up ? "up" : "",
    columns: filter.columns.join(","),
  };
  return Object.fromEntries(Object.entries(all).filter(([, value]) => value !== ""));
}

/** Whether anything is filtered at all. */
export function isFiltered(filter: Filter): boolean {
  const all = Object.entries(toRoute(filter));
  return all.some(([name, value]) => !["sort", "order", "columns"].includes(name) && value !== "days");
}

/** The question for the service; `now` in milliseconds, days in the service's time zone. */
export function toQuery(filter: Filter, now: number, zone: string): EntryQuery {
  const query: EntryQuery = {};
  if (filter.text !== "") query.text = filter.text;
  if (filter.gate !== "") query.gate = filter.gate;
  if (filter.state !== "") query.state = filter.state;
  if (filter.repeats) query.repeats = true;
  if (filter.field !== "") query.field = filter.field;
  if (filter.output !== "") query.output = filter.output;
  const hours = PERIODS.find((period) => period.value === filter.period)?.hours ?? 0;
  if (hours > 0) query.since = new Date(now - hours * 3_600_000).toISOString();
  if (filter.period === "days") {
    const since = startOfDay(filter.from, zone);
    // The last day is meant whole.
    const until = DAY.test(filter.to) ? startOfDay(dayAfter(filter.to), zone) : null;
    if (since !== null) query.since = since;
    if (until !== null) query.until = until;
  }
  return query;
}

/** The order in which a filter lists, for the service. */
export function toOrder(filter: Filter): EntryQuery {
  const order: EntryQuery = {};
  if (filter.sort !== "entered") order.sort = filter.sort;
  // Names go from a to z by themselves, all else from the greatest down.
  if (filter.up !== (filter.sort === "name")) order.oldest_first = true;
  return order;
}
