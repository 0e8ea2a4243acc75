// @vitest-environment jsdom
import { RouterLinkStub } from "@vue/test-utils";
import { beforeEach, expect, it } from "vitest";
import { dropFile } from "../testing/entries";
import { given, service, show } from "../testing/page";
import { withRoom } from "../testing/sizes";
import type { Change, Gate, Output, SampleColumn } from "../support/types";
import EditedCells from "./EditedCells.vue";
import FileTable from "./FileTable.vue";
import GateTable from "./GateTable.vue";
import HistoryList from "./HistoryList.vue";
import MemberTree from "./MemberTree.vue";
import TableColumns from "./TableColumns.vue";

beforeEach(() => {
  service({ "GET /service": { timezone: "Europe/Oslo" } });
  withRoom();
});

it("of a hundred thousand files only those that are seen stand in the page", async () => {
  const files = Array.from({ length: 100_000 }, (_, at) => dropFile(at));
  const shown = await show(FileTable, { files, about: "tide" });
  const rows = shown.findAll("tbody tr[data-index]");
  expect(rows.length).toBeGreaterThan(5);
  expect(rows.length).toBeLessThan(60);
  expect(shown.find("table").attributes("aria-rowcount")).toBe("100001");
  expect(shown.emitted("end")).toBeUndefined();
  shown.unmount();
});

it("the end that comes near asks for more", async () => {
  const shown = await show(FileTable, { files: [dropFile(1), dropFile(2)], about: "tide" });
  expect(shown.emitted("end")).toBeDefined();
  shown.unmount();
});

it("a file leads to its entry, a table to what is in it, and a hostile name does nothing", async () => {
  const files = [
    dropFile(1, { entry: 7, fields: { station: "ullin-bay", day: "2026-01-31" } }),
    dropFile(2, { name: "a.bin", place: "a\u202e\n<b>.bin", kind: "file" }),
    dropFile(3, { kind: "folder", name: "2026", place: "2026" }),
  ];
  const shown = await show(FileTable, { files, about: "tide" });
  const links = shown.findAllComponents(RouterLinkStub).map((one) => one.props("to"));
  expect(links).toContainEqual({ name: "entry", params: { id: 7 } });
  expect(links).toContainEqual({ name: "table", query: { path: "/drop/tide/tide-1.csv" } });
  expect(shown.text()).toContain("station ullin-bay · day 2026-01-31");
  expect(shown.text()).not.toContain("\u202e");
  expect(shown.find("td b").exists()).toBe(false);
  expect(shown.findAll("tbody tr[data-index]")[2]!.text()).toContain("folder");
  shown.unmount();
});

it("figures of a gate lead to what they count, and what is wrong comes before what it does", async () => {
  const gate = (of: object) =>
    ({
      name: "tide",
      state: "watching",
      counts: {},
      filed_today: 0,
      last_arrival: null,
      problems: [],
      doing: null,
      work_does: "merges tables",
      ...of,
    }) as unknown as Gate;
  const shown = await show(GateTable, {
    caption: "Gates",
    gates: [
      gate({ counts: { held: 2, ready: 1200 }, filed_today: 31 }),
      gate({ name: "waves", state: "troubled", problems: ["the drop folder is gone", "its place is away"] }),
      gate({ name: "ferry", doing: "merging 3 files" }),
    ],
  });
  const rows = shown.findAll("tbody tr");
  const links = rows[0]!.findAllComponents(RouterLinkStub).map((one: { props(): object }) => given(one, "to"));
  expect(links).toContainEqual({ name: "ledger", query: { gate: "tide", state: "held" } });
  expect(links).toContainEqual({ name: "ledger", query: { gate: "tide", state: "ready" } });
  expect(rows[0]!.text()).toContain("1,200");
  expect(rows[0]!.text()).toContain("never");
  expect(rows[1]!.text()).toContain("the drop folder is gone; its place is away");
  expect(rows[1]!.text()).not.toContain("merges tables");
  expect(rows[2]!.text()).toContain("merging 3 files");
  shown.unmount();
});

it("the history of an entry says who did what and how long it took, in the service's time", async () => {
  const change = (id: number, of: Partial<Change>): Change => ({
    id,
    at: "2026-01-31T06:00:03Z",
    by: null,
    cause: "pass",
    entry: 1,
    gate: "tide",
    path: "tide.csv",
    state: "ready",
    words: "settled",
    ...of,
  });
  const shown = await show(HistoryList, {
    seenAt: "2026-01-31T06:00:00Z",
    history: [
      change(1, {}),
      change(2, { at: "2026-01-31T06:00:04Z", state: "held", cause: "recovery", words: "its claim was cut off" }),
      change(3, { at: "2026-01-31T07:00:04Z", state: "ready", cause: "person", by: "ada", words: "reopened: mended" }),
    ],
  });
  const [first, ready, held, reopened] = shown.findAll("li");
  expect(first!.text()).toContain("2026-01-31 07:00:00");
  expect(ready!.text()).toContain("+3.0 s");
  expect(held!.text()).toContain("by recovery after an interruption");
  expect(reopened!.text()).toContain("by ada");
  expect(reopened!.text()).not.toContain("a person");
  shown.unmount();
});

it("members of an archive stand by folder, and what is not shown is counted", async () => {
  const member = (path: string, of: Partial<Output> = {}) =>
    ({ path, mode: "create", bytes: 10, became: null, ...of }) as Output;
  const shown = await show(MemberTree, {
    folder: "/waves/night",
    members: [
      member("/waves/night/z/b.csv", { became: 9 }),
      member("/waves/night/a.csv", { mode: "leave", bytes: null }),
      member("/elsewhere/c.csv"),
    ],
    more: 1200,
  });
  expect(shown.findAll("p.font-mono").map((one) => one.text())).toEqual(["/elsewhere/", "z/"]);
  expect(shown.text()).toContain("left, it is there");
  expect(shown.findComponent(RouterLinkStub).props("to")).toEqual({ name: "entry", params: { id: 9 } });
  expect(shown.text()).toContain("and 1,200 more files (3 are shown)");
  shown.unmount();
});

it("cells that were set are told, and those that are not shown are counted", async () => {
  const figures = {
    cells: [
      { sheet: "Cover", cell: "B2", value: "2026-01-31" },
      { sheet: "Cover", cell: "B3", value: "" },
    ],
    cells_set: 102,
    replaced: [
      { find: "Nordhavn", count: 1 },
      { find: "Osterby", count: 0 },
    ],
  };
  const shown = await show(EditedCells, { figures });
  expect(shown.findAll("li").map((one) => one.findAll("span").map((part) => part.text()))).toEqual([
    ["Cover!B2", "2026-01-31"],
    ["Cover!B3", "emptied"],
    [],
    ["Nordhavn", "1 time"],
    ["Osterby", "not found"],
  ]);
  expect(shown.findAll("li")[2]!.text()).toBe("and 100 more cells");
  shown.unmount();
  const nothing = await show(EditedCells, { figures: { cells: "no list" } });
  expect(nothing.find("ul").exists()).toBe(false);
  nothing.unmount();
});

it("a column tells what is in it, and that there is more than was counted", async () => {
  const column = {
    name: "level_m",
    type: "decimal",
    empty: 3,
    different: 1000,
    different_more: true,
    least: "-0.4",
    most: "2.85",
    bars: [
      { of: "0", count: 4 },
      { of: "1", count: 8 },
    ],
  } as unknown as SampleColumn;
  const shown = await show(TableColumns, { columns: [column] });
  const cells = shown.findAll("tbody td").map((one) => one.text());
  expect(cells.slice(0, 5)).toEqual(["decimal", "3", "1,000+", "-0.4", "2.85"]);
  expect(shown.find("span[title]").attributes("title")).toBe("0: 4\n1: 8");
  const bars = shown.findAll("span.bg-bar").map((one) => one.attributes("style"));
  expect(bars).toEqual(["height: 50%;", "height: 100%;"]);
  shown.unmount();
});
