/** What is due, for tests. */

import type { DueCell } from "../support/types";

export const cell = (of: Partial<DueCell>): DueCell => ({
  due: "nightly",
  gate: "tide",
  value: "ullin-bay",
  day: "2026-01-31",
  state: "missing",
  words: "nothing came until 06:00",
  by: "2026-01-31T06:00:00Z",
  give_up: null,
  arrived_at: null,
  bytes: 0,
  rows: 0,
  files: 0,
  files_expected: 1,
  entries: [],
  excused: null,
  ...of,
});
