/** The data of the API, as its OpenAPI document describes it. */

export type EntryState =
  | "ready"
  | "working"
  | "worked"
  | "filed"
  | "repeat"
  | "passed over"
  | "held"
  | "gone"
  | "adopted";

export const ENTRY_STATES: readonly EntryState[] = [
  "ready",
  "working",
  "worked",
  "filed",
  "repeat",
  "passed over",
  "held",
  "gone",
  "adopted",
];

export interface Gate {
  name: string;
  drop: string;
  folders: string[];
  state: "open" | "paused" | "troubled";
  paused: boolean;
  pause: { since: string | null; by: string | null } | null;
  /** Files in its drop folders that no pattern takes. */
  untaken: number;
  counts: Partial<Record<EntryState | "arriving", number>>;
  filed_today: number;
  repeats_today: number;
  last_arrival: string | null;
  last_pass: string | null;
  next_pass: string | null;
  doing: string | null;
  watching: string;
  problems: string[];
  take: string[];
  work: "none" | "merge" | "load" | "run" | "offer";
  work_detail: string | null;
  archive: string | null;
  settle: string;
  order: string;
  gathering: Gathering[];
}

/** A batch that is being gathered. */
export interface Gathering {
  output: string;
  by: string | null;
  files: number;
  bytes: number;
  paths: string[];
  missing: string[];
  closes: string;
  closes_at: string | null;
}

export type Verdict = "take" | "wait" | "leave" | "repeat" | "known" | "unreadable";

export interface DropFile {
  gate: string;
  drop: string;
  path: string;
  place: string;
  name: string;
  kind: "file" | "folder" | "link" | "special";
  bytes: number;
  modified: string;
  owner: number;
  fields: Record<string, string>;
  verdict: Verdict;
  because: string;
  entry: number | null;
}

export interface DropFiles {
  files: DropFile[];
  total: number;
  next: string | null;
}

export interface Entry {
  id: number;
  gate: string;
  path: string;
  name: string;
  drop: string;
  bytes: number;
  modified: string;
  sha256: string;
  state: EntryState;
  fields: Record<string, string>;
  seen_at: string;
  ready_at: string;
  worked_at: string | null;
  filed_at: string | null;
  filed_to: string | null;
  tries: number;
  reason: string | null;
  repeat_of: number | null;
  batch: number | null;
  rows: number | null;
  revision_of: number | null;
  forgotten: boolean;
}

export interface EntryPage {
  entries: Entry[];
  next: number | null;
}

export interface Change {
  id: number;
  entry: number;
  gate: string;
  path: string;
  at: string;
  state: EntryState;
  cause: "pass" | "recovery" | "person";
  by: string | null;
  words: string;
}

export interface Output {
  path: string;
  mode: string;
  bytes: number | null;
  rows: number | null;
  sha256: string | null;
  published_at: string | null;
  role: "rows" | "set aside" | "account" | "all" | "load";
  account: Account | null;
}

/** Which rows went into an output, and what became of them. */
export interface Account {
  rows_in: number;
  rows_out: number;
  set_aside: number;
  left_out: number;
  columns: { name: string; type?: string; total?: string }[];
  sources: { source: string; sheet?: string; rows: number; taken: number; set_aside: number; left_out: number }[];
}

/** Rows of a table of a database into which an entry was loaded. */
export interface LoadedRows {
  entry: number;
  output: string;
  by: string | null;
  columns: { name: string; type: string }[];
  rows: (string | null)[][];
  more: boolean;
}

/** How the rows of an output add up, and what its newest batches wrote. */
export interface OutputAccount {
  batches: number;
  rows_in: number;
  rows_out: number;
  set_aside: number;
  left_out: number;
  parts: OutputPart[];
  next: number | null;
}

/** What one batch wrote into an output. */
export interface OutputPart extends Output {
  gate: string;
  batch: number;
  entries: number;
}

/** One bar of a distribution. */
export interface Bar {
  of: string;
  count: number;
}

export interface SampleColumn {
  name: string;
  type: string;
  empty: number;
  least?: string;
  most?: string;
  different: number;
  different_more: boolean;
  bars: Bar[];
}

export interface SampleTable {
  sheet?: string;
  rows: number;
  more: boolean;
  columns: SampleColumn[];
  first: (string | null)[][];
  fault?: string;
}

/** What is in a file. */
export interface Sample {
  format: string;
  gzip: boolean;
  encoding?: string;
  delimiter?: string;
  tables: SampleTable[];
}

export interface Batch {
  id: number;
  work: string;
  attempt: number;
  begun_at: string;
  ended_at: string | null;
  outcome: string | null;
  words: string;
  entries: number;
  outputs: Output[];
}

export interface EntryDetail extends Entry {
  history: Change[];
  worked_in: Batch | null;
  lies: {
    at: string | null;
    now: "unchanged" | "changed" | "missing" | "unreadable" | "gone";
  };
}

/** What a person does to entries. */
export type Doing = "reopen" | "again" | "file" | "delete" | "forget" | "unload";

export interface Done {
  done: number[];
  refused: { entry: number; because: string }[];
  made: { entry: number; by: number; outputs: Output[]; rows_twice: number }[];
}

export interface Adoption {
  adopted: string[];
  left: { path: string; because: string }[];
}

export interface Activity {
  gate: string;
  begins: string;
  minutes: number;
  entered: number;
  filed: number;
  held: number;
  repeats: number;
}

export interface PassReport {
  gate: string;
  entered: number;
  repeats: number;
  worked: number;
  filed: number;
  held: number;
  arriving: number;
  paused: boolean;
  problems: string[];
}

export interface Rehearsed {
  gate: string;
  path: string;
  place: string;
  bytes: number;
  will: "work" | "file" | "repeat" | "pass over" | "hold" | "wait";
  because: string | null;
  entry: number | null;
  output: string | null;
  mode: string | null;
  program: string | null;
  filed_to: string | null;
}

/** What a pattern makes of the files of a drop folder. */
export interface Matches {
  pattern: string;
  matched: { path: string; fields: Record<string, string> }[];
  missed: { path: string; because: string }[];
}

export interface ServiceInfo {
  version: string;
  started: string;
  configuration: string;
  state: string;
  timezone: string;
  /** What is wrong with the configuration file that was not taken. */
  fault: string | null;
}

/** Which entries are asked for; an absent part does not filter. */
export interface EntryQuery {
  gate?: string;
  state?: EntryState;
  text?: string;
  since?: string;
  repeats?: boolean;
  output?: string;
}
