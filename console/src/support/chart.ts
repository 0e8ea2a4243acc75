/** From counts over time to the bars of a chart. */

import type { Activity } from "./types";

export interface Bar {
  begins: string;
  /** Files entered, those that were held left out. */
  good: number;
  held: number;
}

/** The bars of one gate, oldest first. */
export function bars(activity: Activity[], gate: string): Bar[] {
  return activity
    .filter((piece) => piece.gate === gate)
    .sort((a, b) => Date.parse(a.begins) - Date.parse(b.begins))
    .map(({ begins, entered, held }) => ({
      begins,
      good: Math.max(0, entered - held),
      held,
    }));
}

/** The least round number that no bar exceeds: 1, 2 or 5 times a power of ten. */
export function ceiling(most: number): number {
  if (most <= 1) return 1;
  const power = 10 ** Math.floor(Math.log10(most));
  const step = [1, 2, 5, 10].find((factor) => factor * power >= most) ?? 10;
  return step * power;
}

/** Whether everything that came in a day came in its last two hours. */
export function justBegun(activity: Activity[]): boolean {
  const times = activity.map((piece) => Date.parse(piece.begins));
  const newest = Math.max(...times);
  return activity.every((piece) => piece.entered === 0 || newest - Date.parse(piece.begins) <= 3_600_000);
}
