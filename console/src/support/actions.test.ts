import { expect, it } from "vitest";
import { ACTIONS, actionsFor, told } from "./actions";
import { ENTRY_STATES } from "./types";

const done = (...entries: number[]) => ({ done: entries, refused: [], made: [] });

it("offers what the state allows, and nothing for what is under way", () => {
  expect(actionsFor("held")).toEqual(["again", "file", "delete"]);
  expect(actionsFor("filed")).toEqual(["reopen", "forget"]);
  expect(actionsFor("filed", true)).toEqual(["reopen", "unload", "forget"]);
  expect(actionsFor("held", true)).toEqual(["again", "file", "delete"]);
  for (const state of ["ready", "working", "worked", "repeat"] as const) {
    expect(actionsFor(state)).toEqual([]);
  }
  for (const state of ENTRY_STATES) {
    for (const action of actionsFor(state)) expect(ACTIONS[action].yes).not.toBe("");
  }
});

it("tells what was done and what could not be", () => {
  expect(told("reopen", done(1))).toBe("1 entry: the next pass works it.");
  expect(told("again", done(1, 2))).toBe("2 entries: the next pass works them.");
  const refused = { ...done(1), refused: [{ entry: 2, because: "it is filed" }] };
  expect(told("delete", refused)).toBe("1 entry: deleted. 1 could not be.");
});
