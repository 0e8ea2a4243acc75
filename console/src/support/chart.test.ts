import { describe, expect, it } from "vitest";
import { bars, ceiling, justBegun, wholeSpan } from "./chart";
import type { Activity } from "./types";

function piece(gate: string, hour: number, entered: number, held = 0): Activity {
  const begins = new Date(Date.UTC(2026, 2, 1, hour)).toISOString();
  return { gate, begins, minutes: 60, entered, held, filed: 0, repeats: 0 };
}

describe("chart", () => {
  it("gives one gate's bars in order, with the held ones apart", () => {
    const activity = [piece("tide", 2, 5, 1), piece("wave", 1, 9), piece("tide", 1, 3)];
    expect(bars(activity, "tide").map(({ good, held }) => [good, held])).toEqual([
      [3, 0],
      [4, 1],
    ]);
  });

  it("has a bar for each time, whether anything happened or not", () => {
    const begins = "2026-03-01T00:00:00Z";
    const activity = wholeSpan({ begins, minutes: 60, pieces: 4, activity: [piece("tide", 2, 5, 1)] });
    const heights = (gate: string) => bars(activity, gate).map(({ good, held }) => good + held);
    expect(heights("tide")).toEqual([0, 0, 5, 0]);
    expect(heights("wave")).toEqual([0, 0, 0, 0]);
    expect(justBegun(activity)).toBe(true);
  });

  it("keeps a bar from going below nothing when more was held than entered", () => {
    expect(bars([piece("tide", 1, 0, 2)], "tide")[0]).toMatchObject({ good: 0, held: 2 });
  });

  it.each([
    [0, 1],
    [1, 1],
    [3, 5],
    [10, 10],
    [11, 20],
    [480, 500],
    [501, 1000],
  ])("rounds a top of %i up to %i", (most, top) => expect(ceiling(most)).toBe(top));

  it("knows a service that has just begun", () => {
    expect(justBegun([piece("tide", 0, 0), piece("tide", 22, 4), piece("tide", 23, 1)])).toBe(true);
    expect(justBegun([piece("tide", 3, 1), piece("tide", 23, 1)])).toBe(false);
  });
});
