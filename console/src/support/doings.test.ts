import { expect, it } from "vitest";
import { DOINGS, doingsFor, told } from "./doings";
import { ENTRY_STATES } from "./types";

const done = (...entries: number[]) => ({ done: entries, refused: [], made: [] });

it("offers what the state allows, and nothing for what is under way", () => {
  expect(doingsFor("held")).toEqual(["again", "file", "delete"]);
  expect(doingsFor("filed")).toEqual(["reopen", "forget"]);
  expect(doingsFor("filed", true)).toEqual(["reopen", "unload", "forget"]);
  expect(doingsFor("held", true)).toEqual(["again", "file", "delete"]);
  for (const state of ["ready", "working", "worked", "repeat"] as const) {
    expect(doingsFor(state)).toEqual([]);
  }
  for (const state of ENTRY_STATES) {
    for (const doing of doingsFor(state)) expect(DOINGS[doing].yes).not.toBe("");
  }
});

it("tells what was done and what could not be", () => {
  expect(told("reopen", done(1))).toBe("1 entry: the next pass works it.");
  expect(told("again", done(1, 2))).toBe("2 entries: the next pass works them.");
  const refused = { ...done(1), refused: [{ entry: 2, because: "it is filed" }] };
  expect(told("delete", refused)).toBe("1 entry: deleted. 1 could not be.");
});
