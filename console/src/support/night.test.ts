import { expect, it } from "vitest";
import { night } from "./night";
import type { Activity } from "./types";

const piece = (gate: string, begins: string, entered: number, held = 0): Activity => ({
  gate,
  begins,
  minutes: 60,
  entered,
  filed: entered - held,
  held,
  repeats: 1,
});

it("adds up all gates hour by hour, and the day before beside", () => {
  const now = Date.parse("2026-03-02T06:00:00Z");
  const told = night(
    [
      piece("tide", "2026-03-02T05:00:00Z", 4, 1),
      piece("waves", "2026-03-02T05:00:00Z", 2),
      piece("tide", "2026-03-01T23:00:00Z", 1),
      piece("tide", "2026-03-01T05:00:00Z", 7),
    ],
    now,
  );
  expect(told.bars).toEqual([
    { begins: "2026-03-01T23:00:00Z", good: 1, held: 0 },
    { begins: "2026-03-02T05:00:00Z", good: 5, held: 1 },
  ]);
  expect(told.figures.map(({ name, now, before }) => [name, now, before])).toEqual([
    ["arrived", 7, 7],
    ["filed", 6, 7],
    ["held", 1, 0],
    ["repeats", 3, 1],
  ]);
  expect(night([], now).bars).toEqual([]);
});
