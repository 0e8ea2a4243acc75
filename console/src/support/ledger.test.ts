import { describe, expect, it } from "vitest";
import { type Filter, toFilter, toQuery, toRoute } from "./ledger";

const nothing: Filter = { text: "", gate: "", state: "", period: "", repeats: false, output: "" };

describe("ledger filter", () => {
  it("goes into the address and comes back", () => {
    const filter: Filter = {
      text: "ullin",
      gate: "tide",
      state: "held",
      period: "24h",
      repeats: true,
      output: "/out/tide.csv",
    };
    expect(toFilter(toRoute(filter))).toEqual(filter);
    expect(toRoute(nothing)).toEqual({});
  });

  it("leaves out what an address cannot mean", () => {
    expect(toFilter({ state: "lost", entered: "9y", repeats: "1", gate: ["a", "b"] })).toEqual(nothing);
  });

  it("asks only for what filters, and turns a period into a time", () => {
    expect(toQuery(nothing, 0)).toEqual({});
    const now = Date.parse("2026-03-02T00:00:00Z");
    expect(toQuery({ ...nothing, state: "held", period: "24h" }, now)).toEqual({
      state: "held",
      since: "2026-03-01T00:00:00.000Z",
    });
  });
});
