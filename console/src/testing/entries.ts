/** Entries and what is told of them, for tests. */

import type { Account, DropFile, EntryDetail, HandedIn, Output, OutputPart } from "../support/types";

export const entry = (of: Partial<EntryDetail> = {}): EntryDetail => ({
  id: 17,
  gate: "tide",
  drop: "/drop/tide",
  path: "ullin/tide_0131.csv",
  place: "ullin/tide_0131.csv",
  name: "tide_0131.csv",
  bytes: 2048,
  modified: "2026-01-31T05:58:00Z",
  sha256: "c0ffee",
  state: "filed",
  fields: {},
  seen_at: "2026-01-31T06:00:00Z",
  ready_at: "2026-01-31T06:00:05Z",
  worked_at: "2026-01-31T06:00:06Z",
  filed_at: "2026-01-31T06:00:07Z",
  filed_to: "/archive/tide/tide_0131.csv",
  filed_bytes: null,
  filed_sha256: null,
  content_sha256: null,
  packing: null,
  tries: 0,
  reason: null,
  repeat_of: null,
  revision_of: null,
  forgotten: false,
  batch: null,
  rows: null,
  history: [],
  made_from: null,
  worked_in: null,
  location: { path: "/archive/tide/tide_0131.csv", status: "unchanged" },
  ...of,
});

export const handedIn = (of: Partial<HandedIn> = {}): HandedIn => ({
  entry: 18,
  bytes: 3,
  state: "ready",
  reason: null,
  repeat_of: null,
  sha256: "c0ffee",
  ...of,
});

export const output = (of: Partial<Output> = {}): Output => ({
  account: null,
  became: null,
  bytes: 4096,
  figures: null,
  has_rows: false,
  label: "output of rows",
  mode: "append",
  note: null,
  path: "/out/tide.csv",
  proof: null,
  published_at: "2026-01-31T06:00:06Z",
  role: "rows",
  rows: 52,
  sha256: null,
  ...of,
});

export const outputPart = (of: Partial<OutputPart> = {}): OutputPart => ({
  ...output(),
  batch: 5,
  entries: 3,
  gate: "tide",
  ...of,
});

/** Of rows that add up. */
export const account = (of: Partial<Account> = {}): Account => ({
  columns: [],
  left_out: 1,
  rows_in: 56,
  rows_out: 52,
  set_aside: 3,
  sources: [],
  united: [],
  ...of,
});

/** A file that lies in a drop folder, by its number. */
export const dropFile = (at: number, of: Partial<DropFile> = {}): DropFile => ({
  gate: "tide",
  drop: "/drop/tide",
  path: `tide-${at}.csv`,
  place: `tide-${at}.csv`,
  name: `tide-${at}.csv`,
  kind: "file",
  bytes: 2048,
  modified: "2026-01-31T06:00:00Z",
  owner: 1000,
  fields: {},
  verdict: "take",
  because: "it is complete",
  entry: null,
  ...of,
});
