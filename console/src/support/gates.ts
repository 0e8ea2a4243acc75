/** How many gates are shown: found by words, those with trouble first, in their groups. */

import type { Gate } from "./types";

export interface GateGroup {
  /** Empty for gates of no group. */
  name: string;
  gates: Gate[];
}

/** What of a gate a person should see to, as a number: the higher the sooner. */
export function urgency(gate: Gate): number {
  if (gate.state === "troubled") return 3;
  if ((gate.counts.held ?? 0) > 0) return 2;
  return gate.paused ? 1 : 0;
}

/** Whether all words stand in what a gate is called, does, or where its files come from. */
export function fits(gate: Gate, words: string): boolean {
  const text = [gate.name, gate.group ?? "", gate.drop, gate.work_does, gate.state].join(" ").toLowerCase();
  return words
    .toLowerCase()
    .split(/\s+/)
    .every((word) => text.includes(word));
}

/**
 * The gates that fit, by group in the order in which groups are first met; in each those with
 * trouble first, and else as the configuration has them.
 */
export function arranged(gates: Gate[], words: string): GateGroup[] {
  const groups = new Map<string, Gate[]>();
  for (const gate of gates) groups.set(gate.group ?? "", groups.get(gate.group ?? "") ?? []);
  for (const gate of gates.filter((one) => fits(one, words))) groups.get(gate.group ?? "")?.push(gate);
  return [...groups]
    .filter(([, own]) => own.length > 0)
    .map(([name, own]) => ({ name, gates: own.toSorted((a, b) => urgency(b) - urgency(a)) }));
}
