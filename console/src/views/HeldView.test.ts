// @vitest-environment jsdom
import { flushPromises } from "@vue/test-utils";
import { afterEach, expect, it, vi } from "vitest";
import { entry } from "../testing/entries";
import { type Answer, Refusal, button, service, showAt, signedIn } from "../testing/page";
import type { HeldGroup } from "../support/types";
import HeldView from "./HeldView.vue";

const group = (gate: string, reason: string, entries: number[]): HeldGroup => ({
  gate,
  reason,
  since: "2026-01-31T06:00:00Z",
  count: entries.length,
  entries,
});
const GROUPS = [group("tide", "it has no column `level_m`", [4, 5, 6]), group("wave", "it is empty (0 bytes)", [9])];
const held = (id: number, of = {}) =>
  entry({ id, state: "held", reason: `reason of ${id}`, path: `held-${id}.csv`, ...of });

const answers = (groups: HeldGroup[], more: Record<string, Answer | object> = {}) => ({
  "GET /session": signedIn({}),
  "GET /service": { timezone: "UTC" },
  "GET /held": groups,
  "GET /entries": { entries: [], next: null },
  ...Object.fromEntries(
    groups
      .flatMap((one) => one.entries)
      .flatMap((id) => [
        [`GET /entries/${id}`, held(id)],
        [`GET /entries/${id}/excerpt`, new Refusal(404, "there are no lines to show")],
      ]),
  ),
  ...more,
});

let shown: Awaited<ReturnType<typeof showAt>> | undefined;
afterEach(() => shown?.unmount());
const looked = () => shown!.get("#look").text();
const key = async (key: string, at: EventTarget = window, more = {}) => {
  at.dispatchEvent(new KeyboardEvent("keydown", { key, bubbles: true, ...more }));
  await flushPromises();
};

it("when nothing is held it says so", async () => {
  service(answers([]));
  shown = await showAt(HeldView, "/held");
  expect(shown.text()).toContain("Nothing is held.");
  expect(shown.find("#look").exists()).toBe(false);
});

it("the first file of the first reason is looked at, and j and k go on and back within the reason", async () => {
  service(answers(GROUPS));
  shown = await showAt(HeldView, "/held");
  expect(shown.get("h1").text()).toContain("4");
  expect(looked()).toContain("held-4.csv");
  expect(shown.text()).toContain("1 of 3");
  await key("j");
  expect(looked()).toContain("held-5.csv");
  expect(shown.router.currentRoute.value.query).toEqual({ entry: "5" });
  await key("j");
  await key("j");
  expect(looked()).toContain("held-6.csv");
  expect(button("Next j").disabled).toBe(true);
  await key("k");
  expect(looked()).toContain("held-5.csv");
});

it("keys of somebody who types, or of the browser, go nowhere", async () => {
  service(answers(GROUPS, { "GET /session": signedIn({ local: true, name: null, role: "admin" }) }));
  shown = await showAt(HeldView, "/held");
  await key("j", shown.get("[aria-label='Who mends it']").element);
  await key("j", window, { ctrlKey: true });
  expect(looked()).toContain("held-4.csv");
});

it.each([
  ["/held?entry=9", "held-9.csv"],
  ["/held?gate=wave", "held-9.csv"],
  ["/held?gate=tide&reason=it%20has%20no%20column%20%60level_m%60", "held-4.csv"],
  ["/held?entry=4711", "held-4.csv"],
  ["/held?gate=nowhere", "held-4.csv"],
])("%s shows %s", async (address, file) => {
  service(answers(GROUPS));
  shown = await showAt(HeldView, address);
  expect(looked()).toContain(file);
});

it("who only looks is offered nothing to do", async () => {
  service(answers(GROUPS, { "GET /session": signedIn({ role: "viewer" }) }));
  shown = await showAt(HeldView, "/held");
  const buttons = shown.findAll("section[aria-labelledby=look] button").map((one) => one.text());
  expect(buttons).toEqual(["Previous k", "Next j"]);
  expect(shown.find("input[type=file]").exists()).toBe(false);
});

it("what lies there no more as it was is not shown, and not mended", async () => {
  const gone = held(9, { location: { path: null, status: "missing" } });
  const { asked } = service(answers(GROUPS, { "GET /entries/9": gone }));
  shown = await showAt(HeldView, "/held?entry=9");
  expect(shown.text()).toContain("does not lie there any more as it was");
  expect(shown.find("input[aria-label='The mended file']").exists()).toBe(false);
  expect(asked.some((one) => one.path.endsWith("/excerpt"))).toBe(false);
});

it("an action asks about just the file that is looked at", async () => {
  const { orders } = service(answers(GROUPS, { "POST /entries/actions": { done: [5], made: [], refused: [] } }));
  shown = await showAt(HeldView, "/held?entry=5");
  const act = shown.findAll("section[aria-labelledby=look] button").find((one) => one.text() === "Work again …");
  await act!.trigger("click");
  await flushPromises();
  expect(orders()[0]?.body).toMatchObject({ action: "again", entries: [5], rehearse: true });
  expect(document.querySelector("[role=dialog]")?.textContent).toContain("Have it worked again?");
});

it("a mended file goes to where the held one lies, in its place and in no other's", async () => {
  const sent: { url: string; method: string; headers: Record<string, string> }[] = [];
  service(answers(GROUPS));
  const before = globalThis.fetch;
  vi.stubGlobal("fetch", async (url: string, init: RequestInit) => {
    if (!/drop|uploads/.test(url)) return before(url, init);
    sent.push({ url, method: init.method!, headers: init.headers as Record<string, string> });
    const came = { entry: 21, bytes: 3, state: "ready", reason: null, repeat_of: null, sha256: "00" };
    const headers = { Location: "/api/v1/uploads/abc", "Upload-Offset": "0" };
    return new Response(init.method === "PATCH" ? JSON.stringify(came) : null, { status: 201, headers });
  });
  shown = await showAt(HeldView, "/held?entry=5");
  const chooser = shown.get<HTMLInputElement>("[aria-label='The mended file']");
  Object.defineProperty(chooser.element, "files", { value: [new File(["abc"], "mended by me.csv")] });
  await chooser.trigger("change");
  await vi.waitFor(() => expect(shown!.find("[role=status]").text()).toContain("entry 21"));
  expect(shown.get("a[href='/entries/21']").text()).toBe("entry 21");
  expect(sent.map((one) => one.method)).toEqual(["PUT", "PATCH"]);
  expect(sent[0]!.url).toBe("/api/v1/gates/tide/drop/ullin/tide_0131.csv");
  expect(sent[0]!.headers["If-Match"]).toBe('"c0ffee"');
});
