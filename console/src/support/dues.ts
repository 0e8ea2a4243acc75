/** What is expected, by days and values. */

import type { DueCell, DueState } from "./types";

export interface DueRow {
  value: string;
  /** Its expectations by day. */
  cells: Map<string, DueCell>;
}

/** States with their words, and the sign by which each is known without its colour. */
export const DUE_STATES: Record<DueState, { word: string; sign: string; tone: string }> = {
  missing: { word: "missing", sign: "✕", tone: "bg-danger text-surface" },
  late: { word: "late", sign: "!", tone: "bg-danger-soft text-danger" },
  "due-soon": { word: "due soon", sign: "…", tone: "bg-wait-soft text-wait" },
  expected: { word: "expected", sign: "·", tone: "bg-quiet-soft text-quiet" },
  "here-late": { word: "here late", sign: "◷", tone: "bg-wait-soft text-wait" },
  excused: { word: "excused", sign: "–", tone: "bg-quiet-soft text-quiet" },
  here: { word: "here", sign: "✓", tone: "bg-good-soft text-good" },
};

/** The days of some expectations, oldest first. */
export const daysOf = (cells: readonly DueCell[]): string[] => [...new Set(cells.map((cell) => cell.day))].sort();

/** A row for each value; those with something late or missing first. */
export function rowsOf(cells: readonly DueCell[]): DueRow[] {
  const rows = new Map<string, DueRow>();
  for (const cell of cells) {
    const value = cell.value ?? "";
    const row = rows.get(value) ?? { value, cells: new Map<string, DueCell>() };
    row.cells.set(cell.day, cell);
    rows.set(value, row);
  }
  const last = daysOf(cells).at(-1) ?? "";
  const open = (row: DueRow) => {
    const state = row.cells.get(last)?.state;
    return state === "missing" ? 0 : state === "late" ? 1 : 2;
  };
  return [...rows.values()].sort((one, other) => open(one) - open(other) || one.value.localeCompare(other.value));
}

/** `2026-03-01`, so many days earlier. */
export function daysBefore(day: string, days: number): string {
  const at = new Date(`${day}T12:00:00Z`);
  at.setUTCDate(at.getUTCDate() - days);
  return at.toISOString().slice(0, 10);
}

/** `2026-03-01` as it heads a column: weekday and day of the month. */
export function dayHead(day: string): { weekday: string; date: string } {
  const at = new Date(`${day}T12:00:00Z`);
  return {
    weekday: at.toLocaleDateString("en-GB", { weekday: "short", timeZone: "UTC" }),
    date: at.toLocaleDateString("en-GB", { day: "numeric", month: "numeric", timeZone: "UTC" }),
  };
}
