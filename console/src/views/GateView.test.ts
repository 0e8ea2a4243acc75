// @vitest-environment jsdom
import { flushPromises } from "@vue/test-utils";
import { afterEach, beforeEach, expect, it, vi } from "vitest";
import { dropFile, entry } from "../testing/entries";
import { gate } from "../testing/gates";
import { type Asked, Refusal, button, choose, service, showAt, signedIn, type } from "../testing/page";
import { ROW, withRoom } from "../testing/sizes";
import type { Gate, Role } from "../support/types";
import GateView from "./GateView.vue";

/** A drop folder of so many files, which answers as the service does. */
const folder =
  (count: () => number) =>
  ({ query }: Asked) => {
    const from = Number(query.get("cursor") ?? 0);
    const left = query.get("verdict") === "leave" || query.get("text") === "nothing" ? 0 : count();
    const files = Array.from({ length: Math.max(0, Math.min(200, left - from)) }, (_, at) => dropFile(from + at));
    return { files, next: from + files.length < left ? String(from + files.length) : null, total: left };
  };

async function open(of: Partial<Gate> = {}, role: Role = "operator", more = {}) {
  const asked = service({
    "GET /session": signedIn({ role }),
    "GET /service": { timezone: "UTC" },
    "GET /gates/tide": gate(of),
    "GET /activity": { begins: "2026-01-30T07:00:00Z", minutes: 60, pieces: 24, activity: [] },
    "GET /entries": { entries: [], next: null },
    "GET /gates/tide/files": folder(() => 0),
    "GET /gates/tide/matches": { pattern: "*", matched: [], matched_count: 0, missed: [], missed_count: 0 },
    ...more,
  });
  shown = await showAt(GateView, "/gates/tide");
  return asked;
}

let shown: Awaited<ReturnType<typeof showAt>> | undefined;
beforeEach(withRoom);
afterEach(() => shown?.unmount());
const text = () => shown!.text().replaceAll(/\s+/g, " ");
const facts = () =>
  Object.fromEntries(
    shown!.findAll("[aria-label=Rules] dt").map((one) => [one.text(), one.element.nextElementSibling?.textContent]),
  );

it("its rules are read in words, and what it does now", async () => {
  await open({ doing: "merges 3 files" });
  expect(facts()).toMatchObject({
    "Drop folder": "/drop/tide",
    Work: "merge",
    Output: "/out/tide.csv",
    Archive: "/archive/tide",
    Doing: "merges 3 files",
  });
  shown!.unmount();
  await open({ work: "none", work_label: null, work_detail: null, archive: null });
  expect(facts()).toMatchObject({
    Work: "none: it only files",
    Archive: "worked files stay where they are",
    Doing: "at rest",
  });
});

it("standing problems come first, and an empty gate says how it fills", async () => {
  await open({ state: "troubled", problems: ["the drop folder is not there\u001b[31m"] });
  expect(text()).toContain("the drop folder is not there");
  expect(text()).not.toContain("\u001b");
  expect(text()).toContain("The drop folder is empty.");
  expect(text()).toContain("No entry yet.");
});

it("who only looks hands nothing in, adopts nothing, and has nothing passed", async () => {
  await open({}, "viewer");
  for (const words of ["Hand files in", "Adopt …", "Pass now"]) expect(text()).not.toContain(words);
  expect(text()).toContain("Rehearse");
});

it("the newest entries lead to theirs, and to all of them in the ledger", async () => {
  const entries = [entry({ id: 18, path: "scarp.csv" }), entry({ id: 17 })];
  const { asked } = await open({}, "viewer", { "GET /entries": { entries, next: null } });
  expect(asked.find((one) => one.path === "/entries")?.query.get("gate")).toBe("tide");
  const links = shown!.findAll("section[aria-labelledby=newest] a").map((one) => one.attributes("href"));
  expect(links).toEqual(["/ledger?gate=tide", "/entries/18", "/entries/17"]);
});

it("a long drop folder is read as far as it is looked at", async () => {
  const { asked } = await open({}, "viewer", { "GET /gates/tide/files": folder(() => 450) });
  expect(text()).toContain("450 files");
  const reads = () => asked.filter((one) => one.path === "/gates/tide/files").map((one) => one.query.get("cursor"));
  expect(reads()).toEqual([null]);
  const scroller = shown!.get("section[aria-labelledby=drop] table").element.closest<HTMLElement>("[class*=overflow]")!;
  scroller.scrollTop = 200 * ROW;
  scroller.dispatchEvent(new Event("scroll"));
  await vi.waitFor(() => expect(reads()).toEqual([null, "200"]));
});

it("files are looked for by name and by verdict, and none is said as none", async () => {
  const { asked } = await open({}, "viewer", { "GET /gates/tide/files": folder(() => 3) });
  await choose("Verdict", "leave");
  await flushPromises();
  expect(asked.at(-1)?.query.get("verdict")).toBe("leave");
  expect(text()).toContain("No file is so.");
  await choose("Verdict", "all");
  await type("Search the drop folder", "nothing");
  await flushPromises();
  expect(asked.at(-1)?.query.get("text")).toBe("nothing");
  expect(text()).toContain("No file is so.");
});

it("what changes under the pointer is read again when one wants it", async () => {
  let count = 3;
  await open({}, "viewer", { "GET /gates/tide/files": folder(() => count) });
  const { isHeld } = await import("../composables/useHold");
  expect(isHeld("files")).toBe(false);
  const list = shown!.get("section[aria-labelledby=drop] > div + *");
  list.element.dispatchEvent(new Event("pointerenter"));
  count = 4;
  expect(isHeld("files")).toBe(true);
  await flushPromises();
  expect(text()).toContain("The folder has changed: read it again");
  expect(text()).toContain("3 files");
  button("The folder has changed: read it again").click();
  await vi.waitFor(() => expect(text()).toContain("4 files"));
  expect(text()).not.toContain("The folder has changed");
});

it("a gate that is not there is told", async () => {
  await open({}, "viewer", { "GET /gates/tide": new Refusal(404, "no gate is called `tide`; there are: wave") });
  expect(text()).toContain("no gate is called `tide`");
});
