// @vitest-environment jsdom
import { flushPromises } from "@vue/test-utils";
import { afterEach, expect, it } from "vitest";
import { cell } from "../testing/dues";
import { Refusal, button, service, show, signedIn, type } from "../testing/page";
import DueCellPanel from "./DueCellPanel.vue";

let shown: Awaited<ReturnType<typeof show>> | undefined;
afterEach(() => shown?.unmount());

it("what came is counted, with the first of its entries", async () => {
  service({ "GET /session": signedIn({}) });
  const entries = Array.from({ length: 12 }, (_, at) => at + 40);
  const here = cell({ state: "here", files: 1_300, bytes: 2_048, rows: 52, entries });
  shown = await show(DueCellPanel, { cell: here });
  const text = shown.text().replaceAll(/\s+/g, " ");
  expect(text).toContain("1,300 files, 2.0 KiB, 52 rows: entries 40, 41, 42");
  expect(text).toContain("and 1,288 more");
  // What is here needs no excuse.
  expect(shown.find("button").exists()).toBe(false);
});

it("what is missing can be excused by whoever says why, for that day and value alone", async () => {
  const { orders } = service({
    "GET /session": signedIn({}),
    "POST /excuses": cell({ state: "excused", words: "excused by nightwatch" }),
  });
  shown = await show(DueCellPanel, { cell: cell({}) });
  button("Excuse …").click();
  await flushPromises();
  expect(button("It need not come").disabled).toBe(true);
  await type("Why", "the gauge is in the yard");
  // Another one is looked at: nothing of what was typed goes to it.
  await shown.setProps({ cell: cell({ day: "2026-02-01" }) });
  button("Excuse …").click();
  await flushPromises();
  expect(button("It need not come").disabled).toBe(true);
  await type("Why", "the gauge is still in the yard");
  await shown.find("form").trigger("submit");
  await flushPromises();
  expect(orders().map((one) => one.body)).toEqual([
    { due: "nightly", value: "ullin-bay", day: "2026-02-01", who: null, why: "the gauge is still in the yard" },
  ]);
  expect(shown.emitted("excused")).toMatchObject([[{ state: "excused" }]]);
});

it("a viewer excuses nothing; a refusal is told", async () => {
  service({ "GET /session": signedIn({ role: "viewer" }) });
  shown = await show(DueCellPanel, { cell: cell({}) });
  expect(shown.find("button").exists()).toBe(false);
  shown.unmount();
  service({ "GET /session": signedIn({}), "POST /excuses": new Refusal(409, "it is here meanwhile") });
  shown = await show(DueCellPanel, { cell: cell({}) });
  button("Excuse …").click();
  await flushPromises();
  await type("Why", "as agreed");
  await shown.find("form").trigger("submit");
  await flushPromises();
  expect(shown.find("[role=alert]").text()).toBe("it is here meanwhile");
});
