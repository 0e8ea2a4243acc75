import { expect, test } from "vitest";
import { arranged, fits } from "./gates";
import type { Gate } from "./types";

const gate = (name: string, more: Partial<Gate> = {}): Gate =>
  ({
    name,
    group: null,
    drop: `/drops/${name}`,
    work_does: "files",
    state: "open",
    paused: false,
    counts: {},
    ...more,
  }) as Gate;

test("gates with trouble come first, and the others as they are configured", () => {
  const all = [
    gate("tide"),
    gate("waves", { counts: { held: 2 } }),
    gate("charts", { paused: true }),
    gate("buoys", { state: "troubled" }),
    gate("notes"),
  ];
  const [one] = arranged(all, "");
  expect(one?.gates.map(({ name }) => name)).toEqual(["buoys", "waves", "charts", "tide", "notes"]);
});

test("groups stand in the order in which they are met, and empty ones nowhere", () => {
  const all = [gate("tide", { group: "sea" }), gate("notes"), gate("waves", { group: "sea" })];
  expect(arranged(all, "").map(({ name, gates }) => [name, gates.length])).toEqual([
    ["sea", 2],
    ["", 1],
  ]);
  expect(arranged(all, "notes").map(({ name }) => name)).toEqual([""]);
  expect(arranged(all, "nothing")).toEqual([]);
});

test("a gate is found by any of its words", () => {
  const one = gate("tide", { group: "Harbour", work_does: "merges tables" });
  for (const words of ["", "TIDE", "harbour merges", "/drops/ti"]) expect(fits(one, words)).toBe(true);
  expect(fits(one, "tide waves")).toBe(false);
});
