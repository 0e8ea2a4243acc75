import { expect, it } from "vitest";
import { marked } from "./excerpt";

it("marks what is quoted, wherever it stands", () => {
  expect(marked("a,high,b", ["level_m", "high"])).toEqual([
    { text: "a,", marked: false },
    { text: "high", marked: true },
    { text: ",b", marked: false },
  ]);
  expect(marked("highest high", ["high", "highest"]).filter((piece) => piece.marked)).toHaveLength(2);
  expect(marked("", ["x"])).toEqual([]);
  expect(marked("plain", [""])).toEqual([{ text: "plain", marked: false }]);
});
