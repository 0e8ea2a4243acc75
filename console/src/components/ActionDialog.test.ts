// @vitest-environment jsdom
import { flushPromises } from "@vue/test-utils";
import { afterEach, expect, it } from "vitest";
import type { Asked } from "../testing/page";
import { Refusal, button, service, show, signedIn, type } from "../testing/page";
import type { Done } from "../support/types";
import ActionDialog from "./ActionDialog.vue";

const done = (of: Partial<Done>): Done => ({ done: [], made: [], refused: [], ...of });
const rehearsed = (asked: Asked) => (asked.body as { rehearse: boolean }).rehearse;

/** The dialog, opened as a click on its button opens it. */
async function opened(props: object) {
  const shown = await show(ActionDialog, { modelValue: false, ...props });
  await shown.setProps({ modelValue: true });
  await flushPromises();
  return shown;
}

let shown: Awaited<ReturnType<typeof opened>> | undefined;
afterEach(() => shown?.unmount());

it("tells to how many something is done before it asks who and why, and does it to just those", async () => {
  const { orders } = service({
    "GET /session": signedIn({}),
    "POST /entries/actions": (asked) =>
      rehearsed(asked)
        ? done({ done: [3, 4], refused: [{ entry: 9, because: "it is filed" }] })
        : done({ done: [3, 4] }),
  });
  shown = await opened({ action: "again", entries: [3, 4, 9] });
  expect(document.body.textContent).toContain("2 entries; 1 cannot.");
  expect(document.body.textContent).toContain("Entry 9: it is filed");
  expect(document.body.textContent).toContain("It is recorded as done by nightwatch.");
  expect(button("Work again").disabled).toBe(true);
  await type("Why", "the column is back");
  expect(button("Work again").disabled).toBe(false);
  button("Work again").click();
  await flushPromises();
  const [rehearsal, order] = orders().map((one) => one.body);
  expect(rehearsal).toMatchObject({ action: "again", entries: [3, 4, 9], rehearse: true, why: "" });
  // What was told is what is expected: when more came meanwhile the service refuses.
  expect(order).toMatchObject({ rehearse: false, why: "the column is back", who: null, expected: 3 });
  expect(document.body.textContent).toContain("2 entries: the next pass works them.");
});

it("the holder of the local token says who it is", async () => {
  const { orders } = service({
    "GET /session": signedIn({ local: true, by_name: false, name: null, role: "admin" }),
    "POST /entries/actions": done({ done: [3] }),
  });
  shown = await opened({ action: "file", entries: [3] });
  await type("Why", "as agreed");
  await type("Who", "");
  expect(button("File as it is").disabled).toBe(true);
  await type("Who", "ada");
  button("File as it is").click();
  await flushPromises();
  expect(orders().at(-1)?.body).toMatchObject({ who: "ada", why: "as agreed" });
});

it("work that would stand twice is done only when that is wanted", async () => {
  const output = { path: "/out/tide.csv", label: "output", role: "rows", mode: "append", rows: 3 };
  const made = [{ entry: 8, by: 3, outputs: [output], rows_twice: 1200 }];
  const { orders } = service({
    "GET /session": signedIn({}),
    "POST /entries/actions": (asked) =>
      rehearsed(asked) ? done({ done: [8], made: made as never }) : done({ done: [8] }),
  });
  shown = await opened({ action: "again", entries: [8] });
  await type("Why", "once more");
  expect(document.body.textContent).toContain("Entry 8 is a repeat of entry 3, which was worked.");
  expect(document.body.textContent).toContain("1,200 rows would stand twice.");
  expect(button("Work again").disabled).toBe(true);
  document.querySelector<HTMLInputElement>('input[type="checkbox"]')!.click();
  await flushPromises();
  button("Work again").click();
  await flushPromises();
  expect(orders().at(-1)?.body).toMatchObject({ twice: true, rehearse: false });
});

it("a refusal of the service is told, and nothing looks done", async () => {
  service({
    "GET /session": signedIn({ role: "admin" }),
    "GET /entries/5": { id: 5, path: "tide.csv", location: { path: "/hold/tide.csv" } },
    "POST /entries/actions": (asked) =>
      rehearsed(asked) ? done({ done: [5] }) : new Refusal(409, "3 entries fit by now, and 1 was told"),
  });
  shown = await opened({ action: "delete", entries: [5] });
  expect(document.body.textContent).toContain("/hold/tide.csv");
  await type("Why", "not ours");
  button("Delete").click();
  await flushPromises();
  expect(document.querySelector("[role=alert]")?.textContent).toContain("3 entries fit by now");
  expect(document.querySelector("[role=status]")).toBeNull();
  expect(button("Delete").disabled).toBe(false);
});

it("nothing can be said yes to where nothing would be done", async () => {
  service({
    "GET /session": signedIn({}),
    "POST /entries/actions": done({ refused: [{ entry: 5, because: "its file is gone" }] }),
  });
  shown = await opened({ action: "again", entries: [5] });
  expect(document.querySelector('input[aria-label="Why"]')).toBeNull();
  expect(button("Work again").disabled).toBe(true);
});
