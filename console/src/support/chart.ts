/** From counts over time to the bars of a chart. */

import type { Activity } from "./types";

export interface Bar {
  begins: string;
  /** Files entered, those that were held left out. */
  good: number;
  held: number;
}

/** The bars of each gate, oldest first: all at once, in one walk. */
export function barsByGate(activity: Activity[]): Map<string, Bar[]> {
  const all = new Map<string, Bar[]>();
  // Times are of one form, so that their order as text is their order.
  for (const { gate, begins, entered, held } of activity.toSorted((a, b) => (a.begins < b.begins ? -1 : 1))) {
    const bar = { begins, good: Math.max(0, entered - held), held };
    const own = all.get(gate);
    if (own) own.push(bar);
    else all.set(gate, [bar]);
  }
  return all;
}

/** The bars of one gate, oldest first. */
export const bars = (activity: Activity[], gate: string): Bar[] => barsByGate(activity).get(gate) ?? [];

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
