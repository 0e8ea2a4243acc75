import { describe, expect, it } from "vitest";
import { type Filter, isFiltered, lastDays, toFilter, toOrder, toQuery, toRoute } from "./ledger";

const nothing: Filter = {
  text: "",
  gate: "",
  state: "",
  period: "",
  from: "",
  to: "",
  repeats: false,
  field: "",
  output: "",
  sort: "entered",
  up: false,
  columns: [],
};

describe("ledger filter", () => {
  it("goes into the address and comes back", () => {
    const filter: Filter = {
      ...nothing,
      text: "ullin",
      gate: "tide",
      state: "held",
      period: "24h",
      repeats: true,
      field: "station=ullin-bay",
      output: "/out/tide.csv",
      sort: "size",
      up: true,
      columns: ["station", "day"],
    };
    expect(toFilter(toRoute(filter))).toEqual(filter);
    const days: Filter = { ...nothing, period: "days", from: "2026-03-01", to: "2026-03-07" };
    expect(toFilter(toRoute(days))).toEqual(days);
    // That days are to be chosen stays while none is.
    const choosing: Filter = { ...nothing, period: "days" };
    expect(toFilter(toRoute(choosing))).toEqual(choosing);
    expect(toRoute(nothing)).toEqual({});
  });

  it("leaves out what an address cannot mean", () => {
    const odd = { state: "lost", entered: "9y", repeats: "1", gate: ["a", "b"], from: "yesterday", sort: "colour" };
    expect(toFilter(odd)).toEqual(nothing);
  });

  it("asks only for what filters, and turns a period into a time", () => {
    expect(toQuery(nothing, 0, "UTC")).toEqual({});
    const now = Date.parse("2026-03-02T00:00:00Z");
    expect(toQuery({ ...nothing, state: "held", period: "24h" }, now, "UTC")).toEqual({
      state: "held",
      since: "2026-03-01T00:00:00.000Z",
    });
  });

  it("means whole days of the service's time zone, also when its clock is changed", () => {
    const days = { ...nothing, period: "days" as const, from: "2026-03-28", to: "2026-03-29" };
    expect(toQuery(days, 0, "Europe/Oslo")).toEqual({
      since: "2026-03-27T23:00:00.000Z",
      until: "2026-03-29T22:00:00.000Z",
    });
    expect(toQuery({ ...days, to: "" }, 0, "Pacific/Auckland")).toEqual({ since: "2026-03-27T11:00:00.000Z" });
  });

  it("names the last days of the service's time zone", () => {
    const days = lastDays(Date.parse("2026-03-01T23:30:00Z"), "Europe/Oslo");
    expect(days).toHaveLength(7);
    expect(days[0]).toEqual({ value: "2026-03-02", name: "today, Monday 2 Mar" });
    expect(days[6]).toEqual({ value: "2026-02-24", name: "Tuesday 24 Feb" });
  });

  it("knows order from filter", () => {
    expect(toOrder(nothing)).toEqual({});
    expect(toOrder({ ...nothing, up: true })).toEqual({ oldest_first: true });
    expect(toOrder({ ...nothing, sort: "name" })).toEqual({ sort: "name", oldest_first: true });
    expect(toOrder({ ...nothing, sort: "size", up: true })).toEqual({ sort: "size", oldest_first: true });
    expect(isFiltered({ ...nothing, sort: "size", up: true, columns: ["station"] })).toBe(false);
    expect(isFiltered({ ...nothing, field: "station=ullin-bay" })).toBe(true);
  });
});
