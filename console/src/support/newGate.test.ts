import { describe, expect, it } from "vitest";
import { draftOf, formOf } from "./newGate";
import type { GateProposal } from "./types";

const PROPOSAL: GateProposal = {
  draft: {
    name: "port-ellis",
    drop: "drops/port-ellis",
    take: ["<part>_<day:%Y%m%d>.csv"],
    work: { kind: "file" },
    archive: "archive/port-ellis",
    hold: null,
  },
  patterns: [],
  table: {
    delimiter: ";",
    encoding: null,
    sheet: null,
    preamble: 0,
    columns: [
      { name: "time", type: "timestamp" },
      { name: "note", type: "text" },
    ],
  },
  found: "delimited text",
  output: "out/port-ellis.csv",
  database: "out/port-ellis.db",
  gates: [],
};

describe("a new gate", () => {
  it("is what was proposed when nothing is chosen", () => {
    expect(draftOf(formOf(PROPOSAL))).toEqual(PROPOSAL.draft);
  });

  it("has the columns that are wanted, read as the sample was", () => {
    const form = formOf(PROPOSAL);
    form.work = "merge";
    form.columns[1]!.wanted = false;
    expect(draftOf(form).work).toEqual({
      kind: "merge",
      into: "out/port-ellis.csv",
      table: {
        delimiter: ";",
        encoding: null,
        sheet: null,
        preamble: 0,
        columns: [{ name: "time", type: "timestamp" }],
      },
    });
    form.work = "load";
    expect(draftOf(form).work).toMatchObject({ kind: "load", to: "sqlite:out/port-ellis.db", into: "port_ellis" });
  });

  it("takes a pattern from each line, and leaves files where they lie", () => {
    const form = formOf(PROPOSAL);
    form.pattern = " *.csv \n\n*.txt";
    form.leave = true;
    expect(draftOf(form)).toMatchObject({ take: ["*.csv", "*.txt"], archive: null });
  });
});
