// @vitest-environment jsdom
import { flushPromises } from "@vue/test-utils";
import { afterEach, beforeEach, expect, it, vi } from "vitest";
import { quiet } from "../testing/board";
import { cell } from "../testing/dues";
import { Refusal, service, showAt, signedIn } from "../testing/page";
import type { Board, DueState, DueView } from "../support/types";
import MorningView from "./MorningView.vue";

const NOW = "2026-01-31T07:00:00Z";
const due = (name: string, today: [DueState, number][]): DueView => ({
  name,
  gate: "tide",
  each: "station",
  words: `${name} by 06:00`,
  today: today.map(([state, count]) => ({ state, count })),
});
const answers = (board: Partial<Board>, dues: DueView[] = [], more = {}) => ({
  "GET /session": signedIn({}),
  "GET /service": { timezone: "Europe/Oslo" },
  "GET /board": { ...quiet, ...board },
  "GET /dues": dues,
  "GET /dues/cells": [],
  "GET /activity": { begins: "2026-01-29T07:00:00Z", minutes: 60, pieces: 48, activity: [] },
  ...more,
});

let shown: Awaited<ReturnType<typeof showAt>> | undefined;
beforeEach(() => {
  vi.useFakeTimers({ now: Date.parse(NOW), toFake: ["Date", "setInterval", "clearInterval"] });
});
afterEach(() => shown?.unmount());
const text = () => shown!.text().replaceAll(/\s+/g, " ");
const pressed = () => shown!.findAll("[aria-pressed=true]").map((one) => one.text().split(/\s/)[0]);

it("the first line answers whether anybody is needed", async () => {
  service(answers({ here: 12, expected: 3, excused: 1 }));
  shown = await showAt(MorningView, "/");
  expect(text()).toContain("Nothing needs a person.");
  expect(text()).toContain("As of 2026-01-31 08:00:00: 12 expected files here, 3 still to come, 1 excused.");
  shown.unmount();
  service(answers({ needs_a_person: true, here: 1 }));
  shown = await showAt(MorningView, "/");
  expect(text()).toContain("Something needs a person.");
  expect(text()).toContain("1 expected file here, 0 still to come.");
});

it("when the service answers no more it is not said that all is well", async () => {
  const board = vi.fn().mockReturnValueOnce(quiet).mockReturnValue(new Refusal(503, "it is stopping"));
  service(answers({}, [], { "GET /board": board }));
  shown = await showAt(MorningView, "/");
  expect(text()).toContain("Nothing needs a person.");
  vi.advanceTimersByTime(60_000);
  await flushPromises();
  await flushPromises();
  expect(board.mock.calls.length).toBeGreaterThan(1);
  expect(text()).toContain("Nobody knows: the service does not answer.");
  expect(text()).toContain("This was so at 2026-01-31 08:00:00.");
  expect(text()).not.toContain("Nothing needs a person.");
});

it("without rules it says how there would be some", async () => {
  const { asked } = service(answers({}));
  shown = await showAt(MorningView, "/");
  expect(text()).toContain("Nothing is expected.");
  expect(asked.some((one) => one.path === "/dues/cells")).toBe(false);
});

it("the rule that needs a person is shown first, and another one when one asks for it", async () => {
  const dues = [
    due("hourly", [["here", 24]]),
    due("nightly", [
      ["missing", 1],
      ["here", 5],
    ]),
  ];
  const { asked } = service(answers({}, dues));
  shown = await showAt(MorningView, "/");
  expect(pressed()).toEqual(["nightly"]);
  expect(text()).toContain("nightly by 06:00; the last 14 days");
  const query = Object.fromEntries(asked.find((one) => one.path === "/dues/cells")!.query);
  expect(query).toEqual({ name: "nightly", since: "2026-01-18", until: "2026-01-31" });
  await shown.findAll("[aria-pressed=false]")[0]!.trigger("click");
  await flushPromises();
  expect(shown.router.currentRoute.value.query).toEqual({ due: "hourly" });
  shown.unmount();
  shown = await showAt(MorningView, "/?due=hourly");
  expect(pressed()).toEqual(["hourly"]);
  shown.unmount();
  // A rule that is no more is not an empty page.
  shown = await showAt(MorningView, "/?due=of-last-year");
  expect(pressed()).toEqual(["nightly"]);
});

it("the day is that of the service, not of the browser", async () => {
  vi.setSystemTime(Date.parse("2026-01-31T23:30:00Z"));
  const { asked } = service(answers({}, [due("nightly", [["here", 1]])]));
  shown = await showAt(MorningView, "/");
  expect(asked.find((one) => one.path === "/dues/cells")!.query.get("until")).toBe("2026-02-01");
});

it("days stand in order, what is open first, and behind a cell is what came", async () => {
  const cells = [
    cell({ value: "scarp", day: "2026-01-31", state: "here", words: "2 files", files: 2, entries: [4, 5] }),
    cell({ value: "ullin", day: "2026-01-30", state: "here", words: "came at 05:00" }),
    cell({ value: "ullin", day: "2026-01-31", state: "missing", words: "nothing came" }),
  ];
  const dues = [due("nightly", [["missing", 1]])];
  service(answers({}, dues, { "GET /dues/cells": cells }));
  shown = await showAt(MorningView, "/");
  const grid = shown.get("[aria-label='Expectations by day']");
  expect(grid.findAll("thead th").map((one) => one.text())).toEqual(["station", "Fri30/01", "Sat31/01"]);
  expect(grid.findAll("tbody th").map((one) => one.text())).toEqual(["ullin", "scarp"]);
  // On the thirtieth nothing was expected of the second.
  expect(grid.findAll("tbody tr")[1]!.findAll("button")).toHaveLength(1);
  await grid.get("[aria-label='scarp 2026-01-31: here']").trigger("click");
  expect(text()).toContain("entries 4, 5");
  expect(grid.get("[aria-label='scarp 2026-01-31: here']").classes()).toContain("outline-accent");
});

it("the last day stands beside the day before, and what happened leads to it", async () => {
  const piece = (begins: string, of: object) => ({
    gate: "tide",
    begins,
    minutes: 60,
    entered: 0,
    filed: 0,
    held: 0,
    repeats: 0,
    ...of,
  });
  const activity = [
    piece("2026-01-29T12:00:00Z", { entered: 100, filed: 90 }),
    piece("2026-01-31T05:00:00Z", { entered: 40, filed: 38, held: 2 }),
  ];
  const span = { begins: "2026-01-29T07:00:00Z", minutes: 60, pieces: 48, activity };
  service(answers({}, [], { "GET /activity": span }));
  shown = await showAt(MorningView, "/");
  const figures = shown.findAll("section[aria-labelledby=night] dl > div").map((one) => one.text());
  expect(figures.map((one) => one.replaceAll(/\s+/g, " "))).toEqual([
    "arrived40100 the day before",
    "filed3890 the day before",
    "held20 the day before",
    "repeats00 the day before",
  ]);
  const links = shown.findAll("section[aria-labelledby=night] a").map((one) => one.attributes("href"));
  expect(links).toEqual(["/ledger?entered=24h", "/ledger?entered=24h&state=filed", "/ledger?entered=24h&state=held"]);
});
