// @vitest-environment jsdom
import { flushPromises } from "@vue/test-utils";
import { afterEach, beforeEach, expect, it, vi } from "vitest";
import { Refusal, service, show } from "../testing/page";
import type { Hit } from "../support/types";
import SearchDialog from "./SearchDialog.vue";

const push = vi.hoisted(() => vi.fn());
vi.mock("vue-router", async (all) => ({ ...(await all<object>()), useRouter: () => ({ push }) }));

const hit = (of: Partial<Hit>): Hit => ({
  kind: "entry",
  title: "ullin_0301.csv",
  words: "filed, entry 42",
  entry: 42,
  gate: "tide",
  path: null,
  ...of,
});

let shown: Awaited<ReturnType<typeof show>> | undefined;
beforeEach(() => void vi.useFakeTimers({ toFake: ["setTimeout", "clearTimeout"] }));
afterEach(() => {
  shown?.unmount();
  push.mockReset();
});

const press = async (key: string, of: KeyboardEventInit = {}, target: EventTarget = document.body) => {
  target.dispatchEvent(new KeyboardEvent("keydown", { key, bubbles: true, cancelable: true, ...of }));
  await flushPromises();
};
const field = () => document.querySelector<HTMLInputElement>("[role=dialog] input");

/** Types, and lets the typing rest. */
async function search(text: string) {
  field()!.value = text;
  field()!.dispatchEvent(new Event("input", { bubbles: true }));
  await vi.advanceTimersByTimeAsync(250);
  await flushPromises();
}
/** As a mouse does. */
const choose = (at: number) =>
  ["pointerdown", "mousedown", "mouseup", "click"].forEach((event) =>
    options()[at]!.dispatchEvent(new MouseEvent(event, { bubbles: true, cancelable: true })),
  );
const options = () => [...document.querySelectorAll<HTMLElement>("[role=option]")];

it("opens by / and by Ctrl-K, but not while somebody types", async () => {
  service({});
  shown = await show(SearchDialog, {});
  const typing = document.body.appendChild(document.createElement("input"));
  await press("/", {}, typing);
  expect(field()).toBeNull();
  await press("/");
  expect(field()).not.toBeNull();
  await press("Escape", {}, field()!);
  expect(field()).toBeNull();
  await press("k", { ctrlKey: true }, typing);
  expect(field()).not.toBeNull();
});

it("asks once the typing rests, and goes to what was found", async () => {
  const { asked } = service({
    "GET /search": [hit({}), hit({ kind: "output", title: "out/a\u202eb.csv", entry: null, path: "out/ab.csv" })],
  });
  shown = await show(SearchDialog, {});
  await press("/");
  expect(document.body.textContent).toContain("For example: ullin-bay");
  field()!.value = "ul";
  field()!.dispatchEvent(new Event("input", { bubbles: true }));
  await vi.advanceTimersByTimeAsync(100);
  await search(" ullin ");
  expect(asked.map((one) => one.query.get("text"))).toEqual(["ullin"]);
  expect(options().map((one) => one.textContent)).toHaveLength(3);
  expect(options()[1]!.textContent).not.toContain("\u202e");
  choose(0);
  await flushPromises();
  expect(push).toHaveBeenCalledWith({ name: "entry", params: { id: "42" } });
  expect(field()).toBeNull();
});

it("where nothing is known it offers the whole ledger, by a field where one was typed", async () => {
  service({ "GET /search": [] });
  shown = await show(SearchDialog, {});
  await press("/");
  await search("station=haven");
  expect(options().map((one) => one.textContent)).toEqual([
    expect.stringContaining("Nothing of that is known; look through all entries"),
  ]);
  choose(0);
  await flushPromises();
  expect(push).toHaveBeenCalledWith({ name: "ledger", query: { field: "station=haven" } });
});

it("a question that the service does not understand is told, and typing goes on", async () => {
  service({
    "GET /search": (one) =>
      one.query.get("text") === "<a" ? new Refusal(400, "in pattern `<a`: `>` is missing") : [hit({})],
  });
  shown = await show(SearchDialog, {});
  await press("/");
  await search("<a");
  expect(document.querySelector("[role=alert]")?.textContent).toContain("`>` is missing");
  await search("a");
  expect(document.querySelector("[role=alert]")).toBeNull();
  expect(options()[0]!.textContent).toContain("ullin_0301.csv");
});
