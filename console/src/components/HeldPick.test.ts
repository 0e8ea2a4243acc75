// @vitest-environment jsdom
import { flushPromises } from "@vue/test-utils";
import { expect, it } from "vitest";
import { type Asked, button, service, show, signedIn } from "../testing/page";
import type { HeldGroup, Role } from "../support/types";
import HeldPick from "./HeldPick.vue";

const group = (entries: number[]): HeldGroup => ({
  gate: "tide",
  reason: "it has no column `level_m`",
  since: "2026-01-31T06:00:00Z",
  count: entries.length,
  entries,
});
const answers = (role: Role) => ({
  "GET /session": signedIn({ role }),
  "GET /entries": ({ query }: Asked) => ({
    entries: query
      .get("ids")!
      .split(",")
      .map((id) => ({ id: Number(id), path: `tide-${id}.csv` })),
    next: null,
  }),
});
const upTo = (count: number) => Array.from({ length: count }, (_, at) => at + 1);

it("all of a reason are chosen at once, and what is held no more is chosen no more", async () => {
  service(answers("operator"));
  const shown = await show(HeldPick, { group: group([1, 2, 3]), looked: 1 });
  expect(button("Work again …").disabled).toBe(true);
  const boxes = () => shown.findAll<HTMLInputElement>('ul input[type="checkbox"]');
  await boxes()[0]!.setValue(true);
  expect(shown.find("[role=status]").text()).toBe("1 chosen");
  await shown.find<HTMLInputElement>('label input[type="checkbox"]').setValue(true);
  expect(shown.find("[role=status]").text()).toBe("3 chosen");
  await shown.setProps({ group: group([2, 3]) });
  await flushPromises();
  expect(shown.find("[role=status]").text()).toBe("2 chosen");
  button("Work again …").click();
  expect(shown.emitted("act")).toEqual([["again", [2, 3]]]);
  shown.unmount();
});

it("what destroys something is for admins, and a viewer chooses nothing", async () => {
  const offered = async (role: Role) => {
    service(answers(role));
    const shown = await show(HeldPick, { group: group([1]), looked: 1 });
    const words = shown.findAll("button").map((one) => one.text());
    const boxes = shown.findAll('input[type="checkbox"]').length;
    shown.unmount();
    return { words, boxes };
  };
  expect(await offered("viewer")).toEqual({ words: ["tide-1.csv"], boxes: 0 });
  expect((await offered("operator")).words).not.toContain("Delete the file …");
  expect((await offered("admin")).words).toContain("Delete the file …");
});

it("thousands are asked for page by page, and chosen all the same", async () => {
  const { asked } = service(answers("operator"));
  const shown = await show(HeldPick, { group: group(upTo(250)), looked: 1 });
  expect(shown.findAll("ul button.link")).toHaveLength(100);
  await shown.find<HTMLInputElement>('label input[type="checkbox"]').setValue(true);
  expect(shown.find("[role=status]").text()).toBe("250 chosen");
  button("Show more").click();
  await flushPromises();
  button("Show more").click();
  await flushPromises();
  expect(shown.findAll("ul button.link")).toHaveLength(250);
  expect(shown.text()).not.toContain("Show more");
  expect(asked.filter((one) => one.path === "/entries")).toHaveLength(3);
  shown.unmount();
});

it("the file that is looked at is marked, and another can be looked at", async () => {
  service(answers("viewer"));
  const shown = await show(HeldPick, { group: group([1, 2]), looked: 2 });
  const [first, second] = shown.findAll("ul button.link");
  expect(second!.attributes("aria-current")).toBe("true");
  expect(first!.attributes("aria-current")).toBeUndefined();
  await first!.trigger("click");
  expect(shown.emitted("update:looked")).toEqual([[1]]);
  shown.unmount();
});
