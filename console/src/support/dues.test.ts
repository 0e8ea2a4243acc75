import { describe, expect, it } from "vitest";
import { dayHead, daysBefore, daysOf, rowsOf } from "./dues";
import type { DueCell, DueState } from "./types";

const cell = (value: string, day: string, state: DueState) => ({ value, day, state }) as DueCell;

describe("what is expected", () => {
  const cells = [
    cell("ullin-bay", "2026-03-01", "here"),
    cell("ullin-bay", "2026-03-02", "late"),
    cell("garrow-light", "2026-03-02", "here"),
    cell("haven", "2026-03-02", "missing"),
  ];
  it("has a row for each value, those that need a person first", () => {
    expect(rowsOf(cells).map((row) => row.value)).toEqual(["haven", "ullin-bay", "garrow-light"]);
    expect(rowsOf(cells)[1]?.cells.get("2026-03-01")?.state).toBe("here");
    expect(daysOf(cells)).toEqual(["2026-03-01", "2026-03-02"]);
  });
  it("has days over the ends of months and years", () => {
    expect(daysBefore("2027-01-01", 1)).toBe("2026-12-31");
    expect(daysBefore("2028-03-01", 1)).toBe("2028-02-29");
    expect(dayHead("2026-03-01")).toEqual({ weekday: "Sun", date: "01/03" });
  });
});
