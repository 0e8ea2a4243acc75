import { expect, it } from "vitest";
import { layout, shortened } from "./family";
import type { Family, FamilyMember } from "./types";

const member = (key: string): FamilyMember => ({
  key,
  kind: "entry",
  name: key,
  gate: null,
  entry: null,
  state: null,
  rows: null,
});
const family = (keys: string, ...links: string[]): Family => ({
  members: [...keys].map(member),
  links: links.map((link) => ({ from: link[0]!, to: link[1]! })),
  more: false,
});
const columns = (all: Family) =>
  Object.fromEntries(layout(all).placed.map(({ member, column }) => [member.key, column]));

it("has what comes from something to the right of it", () => {
  const all = family("dcba", "ab", "bc", "ac", "cd");
  expect(columns(all)).toEqual({ a: 0, b: 1, c: 2, d: 3 });
  expect(layout(all).links).toHaveLength(4);
});

it("stands each near what it comes from", () => {
  const { placed, rows } = layout(family("abyx", "ax", "by"));
  expect(placed.find((one) => one.member.key === "x")?.row).toBe(0);
  expect(rows).toBe(2);
});

it("ends with what would come from itself, and with nothing", () => {
  expect(Object.keys(columns(family("ab", "ab", "ba")))).toHaveLength(2);
  expect(layout(family(""))).toEqual({ placed: [], links: [], columns: 0, rows: 0 });
});

it("leaves out outputs that are the entry that they became, and no other", () => {
  const all = family("awoeq", "aw", "wo", "oe", "wq");
  for (const key of ["o", "q"]) all.members.find((one) => one.key === key)!.kind = "output";
  const short = shortened(all, "a");
  expect(short.members.map((one) => one.key).join("")).toBe("aweq");
  expect(short.links).toEqual([
    { from: "a", to: "w" },
    { from: "w", to: "e" },
    { from: "w", to: "q" },
  ]);
  expect(shortened(all, "o")).toEqual(all);
});
