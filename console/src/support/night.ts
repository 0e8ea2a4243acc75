/** What the last day did, over all gates, beside the day before. */

import type { Bar } from "./chart";
import type { Activity } from "./types";

export interface Night {
  bars: Bar[];
  figures: { name: string; now: number; before: number; state: string }[];
}

const DAY_MS = 86_400_000;

/** @param now in milliseconds: the day ends then. */
export function night(activity: Activity[], now: number): Night {
  const bars = new Map<string, Bar>();
  const sums = { entered: [0, 0], filed: [0, 0], held: [0, 0], repeats: [0, 0] };
  for (const piece of activity) {
    const lately = Date.parse(piece.begins) >= now - DAY_MS;
    for (const [name, [last, before]] of Object.entries(sums) as [keyof typeof sums, [number, number]][]) {
      sums[name] = lately ? [last + piece[name], before] : [last, before + piece[name]];
    }
    if (!lately) continue;
    const bar = bars.get(piece.begins) ?? { begins: piece.begins, good: 0, held: 0 };
    bar.good += Math.max(0, piece.entered - piece.held);
    bar.held += piece.held;
    bars.set(piece.begins, bar);
  }
  const figure = (name: string, of: keyof typeof sums, state: string) => ({
    name,
    now: sums[of][0]!,
    before: sums[of][1]!,
    state,
  });
  return {
    bars: [...bars.values()].sort((one, other) => (one.begins < other.begins ? -1 : 1)),
    figures: [
      figure("arrived", "entered", ""),
      figure("filed", "filed", "filed"),
      figure("held", "held", "held"),
      figure("repeats", "repeats", "repeat"),
    ],
  };
}
