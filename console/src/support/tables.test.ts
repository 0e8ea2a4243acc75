import { describe, expect, it } from "vitest";
import { accountOf, addsUp, heights, isTable, joined, kindOf } from "./tables";
import type { OutputPart } from "./types";

const part = (batch: number, rows: [number, number, number, number] | null): OutputPart => ({
  gate: "tide",
  batch,
  entries: 1,
  path: "/out/tide.csv",
  mode: "append",
  bytes: 1,
  rows: 1,
  sha256: null,
  published_at: null,
  role: "rows",
  label: "output",
  has_rows: false,
  proof: null,
  note: null,
  figures: null,
  became: null,
  account:
    rows === null
      ? null
      : {
          rows_in: rows[0],
          rows_out: rows[1],
          set_aside: rows[2],
          left_out: rows[3],
          columns: [],
          sources: [],
          united: [],
        },
});

describe("tables", () => {
  it("bars that are there are seen, and none is higher than the highest", () => {
    expect(
      heights([
        { of: "a", count: 1000 },
        { of: "b", count: 1 },
        { of: "c", count: 0 },
      ]),
    ).toEqual([100, 8, 0]);
    expect(heights([])).toEqual([]);
  });

  it("accounts are summed and seen to add up", () => {
    const account = accountOf([part(1, [4, 2, 1, 1]), part(2, null), part(3, [2, 2, 0, 0])]);
    expect(account).toMatchObject({ batches: 3, rows_in: 6, rows_out: 4, set_aside: 1, left_out: 1, next: null });
    expect(addsUp(account)).toBe(true);
    expect(addsUp(accountOf([part(1, [4, 2, 1, 0])]))).toBe(false);
  });

  it("kinds are told in words", () => {
    const sample = { format: "delimited text", packed: "gzip" as const, encoding: "utf-8", delimiter: ";", tables: [] };
    expect(kindOf(sample)).toBe("delimited text, compressed (gzip), utf-8, separated by semicolons");
    expect(kindOf({ format: "a workbook (xlsx)", tables: [] })).toBe("a workbook (xlsx)");
  });

  it("names tell which files can be looked into", () => {
    expect(["a.csv", "b.XLSX", "c.jsonl.gz"].every(isTable)).toBe(true);
    expect(["a.zip", "b.png", "csv"].some(isTable)).toBe(false);
    expect(joined("/drops/tide/", "a/b.csv")).toBe("/drops/tide/a/b.csv");
  });
});
