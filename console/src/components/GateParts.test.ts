// @vitest-environment jsdom
import { RouterLinkStub, flushPromises } from "@vue/test-utils";
import { afterEach, expect, it } from "vitest";
import { gate } from "../testing/gates";
import { Refusal, button, service, show, signedIn } from "../testing/page";
import type { Gate, PassReport, Rehearsed, Role } from "../support/types";
import ActivityChart from "./ActivityChart.vue";
import GateActions from "./GateActions.vue";
import GateFigures from "./GateFigures.vue";
import GateNotes from "./GateNotes.vue";
import OpenBatches from "./OpenBatches.vue";
import RehearsalPanel from "./RehearsalPanel.vue";

let shown: Awaited<ReturnType<typeof show>> | undefined;
afterEach(() => shown?.unmount());
const text = () => shown!.text().replaceAll(/\s+/g, " ");

const actions = async (of: Partial<Gate>, role: Role, answers = {}) => {
  const asked = service({ "GET /session": signedIn({ role }), ...answers });
  shown = await show(GateActions, { gate: gate(of) });
  return asked;
};
const passed = (of: Partial<PassReport>) => ({ entered: 0, worked: 0, filed: 0, held: 0, arriving: 0, ...of });

it("a pass tells what it did, and of what nothing was it says nothing", async () => {
  const answers = [passed({ entered: 1, worked: 3, filed: 3 }), passed({ held: 2, arriving: 1 })];
  await actions({}, "operator", { "POST /gates/tide/pass": () => answers.shift() });
  button("Pass now").click();
  await flushPromises();
  expect(text()).toContain("Pass done: 1 file entered, 3 worked, 3 filed.");
  button("Pass now").click();
  await flushPromises();
  expect(text()).toContain("Pass done: 0 files entered, 0 worked, 0 filed, 2 held, 1 still arriving.");
});

it("a pass that cannot be is told why", async () => {
  await actions({}, "operator", { "POST /gates/tide/pass": new Refusal(409, "the gate is paused") });
  button("Pass now").click();
  await flushPromises();
  expect(text()).toContain("the gate is paused");
});

it("nothing is paused before it is asked what that means, and a paused gate is resumed at once", async () => {
  const name = "tide & wave/1";
  const path = `/gates/${encodeURIComponent(name)}`;
  const { orders } = await actions({ name }, "operator", { [`POST ${path}/pause`]: gate({ paused: true }) });
  button("Pause …").click();
  await flushPromises();
  expect(document.querySelector("[role=dialog]")?.textContent).toContain("takes nothing until it is resumed");
  expect(orders()).toEqual([]);
  button("Pause").click();
  await flushPromises();
  expect(orders().map((one) => one.path)).toEqual([`${path}/pause`]);
  shown!.unmount();
  const again = await actions({ paused: true }, "operator", { "POST /gates/tide/resume": gate() });
  button("Resume").click();
  await flushPromises();
  expect(again.orders().map((one) => one.path)).toEqual(["/gates/tide/resume"]);
});

it("who only looks can do nothing to a gate", async () => {
  await actions({}, "viewer");
  expect(shown!.findAll("button")).toEqual([]);
});

it("figures lead to the entries that they count, and nothing leads nowhere", async () => {
  shown = await show(GateFigures, {
    gate: gate({ counts: { arriving: 2, ready: 3, working: 1, worked: 4, held: 5 }, filed_today: 1234 }),
  });
  const figures = Object.fromEntries(
    shown.findAll("dl > div").map((one) => [one.get("dt").text(), one.get("dd").text()]),
  );
  expect(figures).toEqual({
    Arriving: "2",
    Waiting: "3",
    Working: "5",
    "Filed today": "1,234",
    "Repeats today": "0",
    Held: "5",
  });
  const links = shown.findAllComponents(RouterLinkStub).map((one) => (one.props().to as { query: object }).query);
  expect(links).toEqual(["ready", "filed", "held"].map((state) => ({ gate: "tide", state })));
  expect(shown.get("dd.text-danger").text()).toBe("5");
});

it("who paused a gate, when it opens, and what no pattern takes is said; else nothing", async () => {
  shown = await show(GateNotes, { gate: gate() });
  expect(text()).toBe("");
  shown.unmount();
  const closed = { because: "it is Sunday", opens: "on Monday at 06:00", opens_at: null };
  shown = await show(GateNotes, { gate: gate({ closed, untaken: 1 }) });
  expect(text()).toContain("Closed: it is Sunday; on Monday at 06:00.");
  expect(text()).toContain("No pattern takes 1 file that lies in the drop folder.");
  shown.unmount();
  const pause = { by: "mara", since: "2026-01-31T06:00:00Z" };
  shown = await show(GateNotes, { gate: gate({ paused: true, pause, closed, untaken: 2 }) });
  expect(text()).toContain("Paused by mara");
  // That it is closed too says nothing more.
  expect(text()).not.toContain("Closed");
  expect(text()).toContain("2 files that lie");
});

it("of a batch that is being gathered it is told what is in it, what is missing, and when it closes", async () => {
  const batch = (of: object) => ({
    by: "2026-01-31",
    bytes: 4096,
    closes: "when all 3 stations are there",
    files: 2,
    missing: ["garrow"],
    output: "/out/tide_2026-01-31.csv",
    paths: ["ullin.csv", "scarp\n.csv"],
    ...of,
  });
  shown = await show(OpenBatches, { batches: [batch({}), batch({ by: null, missing: [], files: 1 })] });
  const [one, other] = shown.findAll("section > ul > li").map((one) => one.text().replaceAll(/\s+/g, " "));
  expect(text()).toContain("2 batches");
  expect(one).toContain("2 files, 4.0 KiB");
  expect(one).toContain("Still missing:garrow");
  expect(one).toContain("when all 3 stations are there, into /out/tide_2026-01-31.csv");
  expect(other).toContain("All files");
  expect(other).toContain("1 file,");
  expect(other).not.toContain("missing");
});

it("a rehearsal tells of each file what would become of it, and in what order", async () => {
  const file = (of: Partial<Rehearsed>): Rehearsed => ({
    gate: "tide",
    place: "ullin.csv",
    path: "ullin.csv",
    bytes: 10,
    entry: null,
    will: "work",
    because: null,
    output: "/out/tide.csv",
    mode: "append",
    also: [],
    program: null,
    filed_to: "/archive/tide/ullin.csv",
    ...of,
  });
  const files = [
    file({ also: [{ output: "/out/bad.csv", mode: "append" }] }),
    file({
      place: "scarp.csv",
      will: "hold",
      because: "it is empty (0 bytes)",
      output: null,
      mode: null,
      filed_to: null,
    }),
    file({ place: "garrow.csv", will: "repeat", because: "it is the same as entry 4", output: null, mode: null }),
  ];
  service({ "GET /gates/tide/rehearsal": files });
  shown = await show(RehearsalPanel, { gate: "tide" });
  expect(text()).toContain("nothing is touched");
  button("Rehearse").click();
  await flushPromises();
  expect(text()).toContain("3 files: 1 work, 1 repeat, 1 hold");
  const lines = shown.findAll("ol li").map((one) => one.text().replaceAll(/\s+/g, " "));
  expect(lines[0]).toContain("into /out/tide.csv (append), /out/bad.csv (append)");
  expect(lines[0]).toContain("then to /archive/tide/ullin.csv");
  expect(lines[1]).toContain("it is empty (0 bytes)");
  expect(lines[1]).not.toContain("then to");
  // Of another gate nothing is known yet.
  await shown.setProps({ gate: "wave" });
  await flushPromises();
  expect(shown.find("ol").exists()).toBe(false);
});

it("when a pass would do nothing the rehearsal says so", async () => {
  service({ "GET /gates/tide/rehearsal": [] });
  shown = await show(RehearsalPanel, { gate: "tide" });
  button("Rehearse").click();
  await flushPromises();
  expect(text()).toContain("A pass would do nothing.");
});

it("a chart says in words what it draws, and what was held stands on what was good", async () => {
  service({ "GET /service": { timezone: "Europe/Oslo" } });
  const bars = [
    { begins: "2026-01-31T05:00:00Z", good: 30, held: 0 },
    { begins: "2026-01-31T06:00:00Z", good: 10, held: 1 },
    { begins: "2026-01-31T07:00:00Z", good: 0, held: 0 },
  ];
  shown = await show(ActivityChart, { bars, minutes: 60 });
  const svg = shown.get("svg");
  expect(svg.attributes("aria-label")).toBe("41 arrivals from 06:00 to 08:00, at most 50 per hour");
  expect(shown.findAll("title").map((one) => one.text())).toEqual([
    "06:00: 30 arrivals",
    "07:00: 11 arrivals, 1 held",
    "08:00: 0 arrivals",
  ]);
  const [held] = shown.findAll("rect.fill-danger");
  const good = shown.findAll("rect.fill-bar")[1]!;
  // One of fifty is less than a line is high, and is seen all the same.
  expect(Number(held!.attributes("height"))).toBe(1.5);
  expect(Number(held!.attributes("y"))).toBeLessThan(Number(good.attributes("y")));
  expect(shown.findAll("rect.fill-danger")).toHaveLength(1);
});

it("a chart of nothing stands on its line", async () => {
  service({ "GET /service": { timezone: "UTC" } });
  shown = await show(ActivityChart, { bars: [], minutes: 5 });
  expect(text()).toContain("Arrivals per 5 min");
  expect(text()).toContain("0 in all");
  expect(shown.findAll("rect")).toEqual([]);
});
