// @vitest-environment jsdom
import { flushPromises } from "@vue/test-utils";
import { afterEach, beforeEach, expect, it, vi } from "vitest";
import { withoutMeasuring, write, written } from "../testing/editor";
import { type Asked, Refusal, button, press, service, showAt, signedIn, type } from "../testing/page";
import type { GateDraft, GateProposal } from "../support/types";
import NewGateView from "./NewGateView.vue";

const PATH = "/coast/gates/tide.toml";
const EDITOR = "The new gate";
const PROPOSAL: GateProposal = {
  database: "/coast/out/tide.db",
  output: "/coast/out/tide.csv",
  found: "26 rows, separated by commas",
  gates: [],
  draft: {
    name: "tide",
    drop: "/coast/drops/tide",
    take: ["{station}_{date:ymd}.csv"],
    archive: "/coast/archive/tide",
    hold: null,
    work: { kind: "file" },
  },
  patterns: [
    { pattern: "{station}_{date:ymd}.csv", fields: { station: "ullin", date: "20260131" }, taken: 12, left: 1 },
    { pattern: "*.csv", fields: {}, taken: 13, left: 0 },
  ],
  table: {
    columns: [
      { name: "time", type: "timestamp" },
      { name: "level_m", type: "decimal" },
    ],
    delimiter: ",",
    encoding: null,
    preamble: 0,
    sheet: null,
  },
};
const FOLDER = {
  above: null,
  path: "/coast/drops/tide",
  folders: [],
  folder_count: 0,
  files: [{ name: "ullin_20260131.csv", bytes: 2048, modified: "2026-01-31T06:00:00Z" }],
  file_count: 1,
};
/** What is written of a draft: enough to tell one from another. */
const textOf = ({ name, work, take }: GateDraft) =>
  `[gate.${name}]\n# ${work.kind}, ${take.length} patterns, ${"table" in work ? work.table.columns.length : 0} columns\n`;
const tried = (of = {}) => ({
  added: ["tide"],
  changed: [],
  removed: [],
  faults: [],
  files: [],
  left_count: 0,
  taken_count: 12,
  more: false,
  ...of,
});
const answers = (more = {}) => ({
  "GET /session": signedIn({ role: "admin" }),
  "GET /service": { timezone: "UTC" },
  "GET /folders": FOLDER,
  "GET /configuration/keys": [],
  "POST /configuration/proposal": PROPOSAL,
  "POST /configuration/draft": ({ body }: Asked) => ({ path: PATH, text: textOf(body as GateDraft) }),
  "POST /configuration/try": tried(),
  ...more,
});

let shown: Awaited<ReturnType<typeof showAt>> | undefined;
beforeEach(() => {
  withoutMeasuring();
  vi.useFakeTimers({ toFake: ["setTimeout", "clearTimeout"] });
});
afterEach(() => shown?.unmount());
const text = () => shown!.text().replaceAll(/\s+/g, " ");

/** Lets the choosing rest, and what comes of it be tried. */
async function rest() {
  for (let left = 3; left > 0; left -= 1) {
    await vi.advanceTimersByTimeAsync(400);
    await flushPromises();
  }
}
/** Takes the folder with the file that lies in it. */
async function taken(more = {}) {
  const asked = service(answers(more));
  shown = await showAt(NewGateView, "/new-gate");
  const file = shown.findAll("button").find((one) => one.text().includes("ullin_20260131.csv"));
  await file!.trigger("click");
  await rest();
  return asked;
}
const option = (words: string) => {
  const all = [...document.querySelectorAll("[role=radio]")];
  return all.find((one) => one.textContent?.includes(words))!;
};

it("before a folder is chosen nothing is proposed, and nothing can be saved", async () => {
  const { orders } = service(answers());
  shown = await showAt(NewGateView, "/new-gate");
  await rest();
  expect(text()).toContain("Choose a folder first.");
  expect(button("Save …").disabled).toBe(true);
  expect(orders()).toEqual([]);
});

it("a folder and a file in it make a pattern, a work and a text, which is tried and can be saved", async () => {
  const { orders } = await taken();
  expect(orders()[0]?.body).toEqual({ folder: "/coast/drops/tide", sample: "ullin_20260131.csv" });
  expect(text()).toContain("takes 12, leaves 1");
  expect(text()).toContain("station ullin · date 20260131");
  expect(text()).toContain("The sample: 26 rows, separated by commas.");
  expect(written(EDITOR)).toBe("[gate.tide]\n# file, 1 patterns, 0 columns\n");
  expect(text()).toContain("tide new");
  expect(button("Save …").disabled).toBe(false);
});

it("another pattern and another work are written as they are chosen", async () => {
  const { orders } = await taken();
  await press(option("*.csv"));
  await press(option("Merge their rows"));
  await rest();
  expect(written(EDITOR)).toBe("[gate.tide]\n# merge, 1 patterns, 2 columns\n");
  const boxes = shown!.findAll("[aria-label=Columns] input[type=checkbox]");
  await boxes[0]!.setValue(false);
  await rest();
  const draft = orders().findLast((one) => one.path === "/configuration/draft")?.body as GateDraft;
  expect(draft).toMatchObject({
    take: ["*.csv"],
    work: { kind: "merge", into: "/coast/out/tide.csv", table: { columns: [{ name: "level_m", type: "decimal" }] } },
  });
  await press(option("Load their rows"));
  await rest();
  const load = orders().findLast((one) => one.path === "/configuration/draft")?.body as GateDraft;
  expect(load.work).toMatchObject({ kind: "load", to: "sqlite:/coast/out/tide.db", into: "tide" });
});

it("files can be left where they are, or go to another archive", async () => {
  const { orders } = await taken();
  const last = () => orders().findLast((one) => one.path === "/configuration/draft")?.body as GateDraft;
  expect(last().archive).toBe("/coast/archive/tide");
  await shown!.get("[aria-label='Folder into which they are moved']").setValue(" /coast/attic ");
  await rest();
  expect(last().archive).toBe("/coast/attic");
  await shown!.get("fieldset input[type=checkbox]").setValue(true);
  await rest();
  expect(last().archive).toBeNull();
});

it("of what is no table only its filing is offered", async () => {
  await taken({ "POST /configuration/proposal": { ...PROPOSAL, table: null, found: null } });
  expect(document.querySelectorAll("[role=radiogroup]")).toHaveLength(2);
  expect(option("Merge their rows")).toBeUndefined();
  expect(option("File them")).toBeDefined();
});

it("a folder into which another gate looks is told", async () => {
  await taken({ "POST /configuration/proposal": { ...PROPOSAL, gates: ["wave", "post"] } });
  expect(shown!.get("[role=alert]").text().replaceAll(/\s+/g, " ")).toContain("The gates wave, post look into");
});

it("what one writes oneself is not written over, until one asks for it", async () => {
  await taken();
  await write(EDITOR, "# my own\n");
  await rest();
  expect(text()).toContain("You have written in it");
  await press(option("Merge their rows"));
  await rest();
  expect(written(EDITOR)).toBe("# my own\n");
  button("Write it anew").click();
  await rest();
  expect(written(EDITOR)).toBe("[gate.tide]\n# merge, 1 patterns, 2 columns\n");
  expect(text()).not.toContain("You have written in it");
});

it("what is wrong with it is told, and not saved", async () => {
  const faults = [{ file: PATH, line: 1, column: 1, message: "the gate `tide` is there already" }];
  await taken({ "POST /configuration/try": tried({ added: [], faults }) });
  expect(text()).toContain("the gate `tide` is there already");
  expect(button("Save …").disabled).toBe(true);
});

it("it is saved as a new file, and then its page is shown", async () => {
  const { orders } = await taken({ "PUT /configuration": { sha256: "cc", taken: {} } });
  button("Save …").click();
  await rest();
  await type("Why", "a new supplier");
  button("Save").click();
  await rest();
  const order = orders().find((one) => one.method === "PUT")?.body;
  expect(order).toMatchObject({ path: PATH, was: null, why: "a new supplier" });
  expect(shown!.router.currentRoute.value.fullPath).toBe("/gates/tide");
});

it("a folder that cannot be proposed for is told, and the page is left without a question when nothing is begun", async () => {
  await taken({ "POST /configuration/proposal": new Refusal(403, "outside of the roots") });
  expect(text()).toContain("outside of the roots");
  shown!.unmount();
  const confirm = vi.spyOn(window, "confirm").mockReturnValue(false);
  service(answers());
  shown = await showAt(NewGateView, "/new-gate");
  await shown.router.push("/gates");
  expect(confirm).not.toHaveBeenCalled();
  expect(shown.router.currentRoute.value.name).toBe("gates");
});
