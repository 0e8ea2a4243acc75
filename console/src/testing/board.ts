/** The morning on one screen, for tests. */

import type { Board } from "../support/types";

/** Of a night in which nothing happened that a person should know of. */
export const quiet: Board = {
  at: "2026-01-31T07:00:00Z",
  breaches: [],
  day: [],
  due_soon: [],
  excused: 0,
  expected: 0,
  held: [],
  here: 0,
  late: [],
  late_count: 0,
  needs_a_person: false,
  paused: [],
  silent: [],
  troubled: [],
  untaken: [],
  unusual: [],
};
