import { expect, test } from "vitest";
import { inLedger, placeOf } from "./search";
import type { Hit } from "./types";

const hit = (more: Partial<Hit>): Hit => ({
  kind: "entry",
  title: "",
  words: "",
  gate: null,
  entry: null,
  path: null,
  ...more,
});

test("what was found leads to its page", () => {
  expect(placeOf(hit({ entry: 7, gate: "tide" }))).toEqual({ name: "entry", params: { id: "7" } });
  expect(placeOf(hit({ kind: "output", path: "/out/a.csv" }))).toEqual({
    name: "table",
    query: { path: "/out/a.csv" },
  });
  expect(placeOf(hit({ kind: "held", gate: "tide" }))).toEqual({
    name: "held",
    query: { gate: "tide" },
  });
  expect(placeOf(hit({ kind: "file", gate: "tide" }))).toEqual({ name: "gate", params: { gate: "tide" } });
});

test("all of it is in the ledger, by field or by text", () => {
  expect(inLedger("station=haven")).toEqual({ name: "ledger", query: { field: "station=haven" } });
  expect(inLedger("haven_1")).toEqual({ name: "ledger", query: { text: "haven_1" } });
});
