/** What is chosen for a new gate, and the gate that comes of it. */

import type { GateDraft, GateProposal } from "./types";

export type WorkChoice = "file" | "merge" | "load";

export interface ColumnChoice {
  name: string;
  type: string;
  wanted: boolean;
}

export interface GateForm {
  name: string;
  drop: string;
  pattern: string;
  work: WorkChoice;
  output: string;
  database: string;
  table: string;
  columns: ColumnChoice[];
  /** How tables are read, as it was found out. */
  reading: Omit<DraftTable, "columns">;
  archive: string;
  leave: boolean;
}

type DraftTable = NonNullable<GateProposal["table"]>;

export const COLUMN_TYPES = ["text", "integer", "decimal", "real", "boolean", "date", "time", "timestamp"] as const;

const NO_READING = { delimiter: null, encoding: null, sheet: null, preamble: 0 };

/** The form as it is proposed; an empty one without a proposal. */
export function formOf(proposal: GateProposal | null): GateForm {
  const { columns, ...reading } = proposal?.table ?? { columns: [], ...NO_READING };
  const name = proposal?.draft.name ?? "";
  return {
    name,
    drop: proposal?.draft.drop ?? "",
    pattern: proposal?.draft.take.join("\n") ?? "",
    work: "file",
    output: proposal?.output ?? "",
    database: proposal ? `sqlite:${proposal.database}` : "",
    table: name.replaceAll("-", "_"),
    columns: columns.map((column) => ({ ...column, wanted: true })),
    reading,
    archive: proposal?.draft.archive ?? "",
    leave: proposal !== null && proposal.draft.archive == null,
  };
}

/** The gate that was chosen. Patterns stand one to a line. */
export function draftOf(form: GateForm): GateDraft {
  const columns = form.columns.filter((column) => column.wanted).map(({ name, type }) => ({ name, type }));
  const table = { ...form.reading, columns };
  const work: GateDraft["work"] =
    form.work === "merge"
      ? { kind: "merge", into: form.output.trim(), table }
      : form.work === "load"
        ? { kind: "load", to: form.database.trim(), into: form.table.trim(), table }
        : { kind: "file" };
  const take = form.pattern.split("\n").map((line) => line.trim());
  return {
    name: form.name.trim(),
    drop: form.drop,
    take: take.filter((line) => line !== ""),
    work,
    archive: form.leave ? null : form.archive.trim(),
    hold: null,
  };
}
