// @vitest-environment jsdom
import { flushPromises } from "@vue/test-utils";
import { afterEach, beforeEach, expect, it } from "vitest";
import { gate } from "../testing/gates";
import { Refusal, choose, service, showAt, signedIn } from "../testing/page";
import { forgetTagged } from "../support/api";
import type { Gate, Role } from "../support/types";
import GatesView from "./GatesView.vue";

const answers = (gates: Gate[], role: Role = "viewer", more = {}) => ({
  "GET /session": signedIn({ role }),
  "GET /service": { timezone: "UTC" },
  "GET /gates": gates,
  "GET /activity": { begins: "2026-01-30T07:00:00Z", minutes: 60, pieces: 24, activity: [] },
  "GET /entries": { entries: [], next: null },
  "GET /changes": [],
  ...more,
});

let shown: Awaited<ReturnType<typeof showAt>> | undefined;
beforeEach(() => {
  forgetTagged();
});
afterEach(() => shown?.unmount());
const text = () => shown!.text().replaceAll(/\s+/g, " ");
const names = () => shown!.findAll("article[data-gate]").map((one) => one.attributes("data-gate"));

it("without a gate it says who makes the first one", async () => {
  service(answers([]));
  shown = await showAt(GatesView, "/gates");
  expect(text()).toContain("An administrator makes one from a folder");
  expect(shown.find("a[href='/new-gate']").exists()).toBe(false);
  shown.unmount();
  service(answers([], "admin"));
  shown = await showAt(GatesView, "/gates");
  expect(shown.get("a[href='/new-gate']").text()).toBe("Make one from a folder");
});

it("the first line tells how many files went through, and what is wrong", async () => {
  service(answers([gate({ filed_today: 1200 }), gate({ name: "wave", filed_today: 34 })]));
  shown = await showAt(GatesView, "/gates");
  expect(text()).toContain("1,234 files filed today, nothing held, no trouble");
  shown.unmount();
  forgetTagged();
  const held = gate({ counts: { held: 3 } });
  const troubled = gate({ name: "wave", state: "troubled", problems: ["the drop folder is not there"] });
  service(answers([held, troubled]));
  shown = await showAt(GatesView, "/gates");
  expect(text()).toContain("3 held, 1 gate in trouble");
  expect(text()).toContain("the drop folder is not there");
});

it("gates stand in their groups, those that need somebody first, and are found by words", async () => {
  service(
    answers([
      gate({ name: "quiet", group: "coast" }),
      gate({ name: "held", group: "coast", counts: { held: 1 } }),
      gate({ name: "alone", work_does: "loads rows into the coast" }),
    ]),
  );
  shown = await showAt(GatesView, "/gates");
  expect(shown.findAll("h2").map((one) => one.text())).toEqual(expect.arrayContaining(["coast", "Of no group"]));
  expect(names()).toEqual(["held", "quiet", "alone"]);
  await shown.get("[aria-label='Find a gate']").setValue("loads COAST");
  expect(names()).toEqual(["alone"]);
  await shown.get("[aria-label='Find a gate']").setValue("nowhere");
  expect(text()).toContain("No gate has these words.");
});

it("few gates are cards and many a table, until one chooses, which is remembered", async () => {
  const many = Array.from({ length: 30 }, (_, at) => gate({ name: `gate-${at}` }));
  service(answers(many));
  shown = await showAt(GatesView, "/gates");
  expect(names()).toEqual([]);
  expect(shown.find("table").exists()).toBe(true);
  await choose("Show", "cards");
  expect(names()).toHaveLength(30);
  shown.unmount();
  document.body.innerHTML = "";
  shown = await showAt(GatesView, "/gates");
  expect(names()).toHaveLength(30);
});

it("the charts are of the day, or of the last two hours when one asks", async () => {
  const { asked } = service(answers([gate()]));
  shown = await showAt(GatesView, "/gates");
  expect(text()).toContain("Arrivals per");
  await choose("Charts", "last 24 hours");
  await flushPromises();
  expect(text()).toContain("Arrivals per hour");
  await choose("Charts", "last 2 hours");
  await flushPromises();
  expect(text()).toContain("Arrivals per 5 min");
  const spans = asked.filter((one) => one.path === "/activity").map((one) => Object.fromEntries(one.query));
  expect(spans).toEqual(
    expect.arrayContaining([
      { hours: "24", minutes: "60" },
      { hours: "2", minutes: "5" },
    ]),
  );
});

it("what goes wrong is told", async () => {
  service(answers([], "viewer", { "GET /gates": new Refusal(500, "the ledger cannot be read") }));
  shown = await showAt(GatesView, "/gates");
  expect(text()).toContain("the ledger cannot be read");
  expect(text()).not.toContain("The configuration has no gate.");
});
