/** From counts over time to the bars of a chart. */

import type { Activity, ActivitySpan } from "./types";

export interface Bar {
  begins: string;
  /** Files entered, those that were held left out. */
  good: number;
  held: number;
}

/** The gate of pieces that only tell which times there are. */
const NO_GATE = "";

/** What happened, and a piece of no gate for each piece of the time. */
export function wholeSpan({ begins, minutes, pieces, activity }: ActivitySpan): Activity[] {
  const first = Date.parse(begins);
  const none = Array.from({ length: pieces }, (_, at) => ({
    gate: NO_GATE,
    begins: new Date(first + at * minutes * 60_000).toISOString(),
    minutes,
    entered: 0,
    filed: 0,
    held: 0,
    repeats: 0,
  }));
  // Times are made one form, so that their order as text is their order.
  return [...none, ...activity.map((piece) => ({ ...piece, begins: new Date(piece.begins).toISOString() }))];
}

/** The bars of each gate, oldest first, one for each time that there is. */
export function barsByGate(activity: Activity[]): Map<string, Bar[]> {
  const times = [...new Set(activity.map((piece) => piece.begins))].sort();
  const places = new Map(times.map((begins, at) => [begins, at]));
  const all = new Map<string, Bar[]>();
  for (const { gate, begins, entered, held } of activity) {
    const own = all.get(gate) ?? times.map((begins) => ({ begins, good: 0, held: 0 }));
    own[places.get(begins)!] = { begins, good: Math.max(0, entered - held), held };
    all.set(gate, own);
  }
  return all;
}

/** The bars of one gate among them; of one at which nothing happened they have no height. */
export const barsOf = (all: Map<string, Bar[]>, gate: string): Bar[] => all.get(gate) ?? all.get(NO_GATE) ?? [];

/** The bars of one gate, oldest first. */
export const bars = (activity: Activity[], gate: string): Bar[] => barsOf(barsByGate(activity), gate);

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
