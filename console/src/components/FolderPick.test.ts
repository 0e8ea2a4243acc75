// @vitest-environment jsdom
import { flushPromises } from "@vue/test-utils";
import { afterEach, expect, it } from "vitest";
import { Refusal, button, service, show } from "../testing/page";
import type { FolderView } from "../support/types";
import FolderPick from "./FolderPick.vue";

const roots: FolderView = {
  path: null,
  above: null,
  folders: [{ name: "/coast", path: "/coast", gates: ["tide", "wave"] }],
  folder_count: 1,
  files: [],
  file_count: 0,
};
const coast: FolderView = {
  path: "/coast",
  above: "",
  folders: [{ name: "in", path: "/coast/in", gates: [] }],
  folder_count: 40,
  files: [{ name: "ullin\u202e.csv", bytes: 2_048, modified: "2026-01-31T05:00:00Z" }],
  file_count: 2_500,
};
const empty: FolderView = {
  path: "/coast/in",
  above: "/coast",
  folders: [],
  folder_count: 0,
  files: [],
  file_count: 0,
};

let shown: Awaited<ReturnType<typeof show>> | undefined;
afterEach(() => shown?.unmount());
const taken = () => (shown!.emitted("update:modelValue") ?? []).map(([one]) => one as object);
const go = async (name: string) => {
  [...document.querySelectorAll("li button")]
    .find((one) => one.textContent?.includes(name))!
    .dispatchEvent(new Event("click"));
  await flushPromises();
};

it("one goes down and up, sees which gates look where, and takes a folder with a file or without", async () => {
  service({
    "GET /service": { timezone: "UTC" },
    "GET /folders": (one) => ({ "": roots, "/coast": coast, "/coast/in": empty })[one.query.get("path") ?? ""],
  });
  shown = await show(FolderPick, { modelValue: null });
  expect(shown.text()).toContain("The roots of this service");
  expect(shown.text()).toContain("gates tide, wave");
  await go("/coast");
  expect(shown.text()).not.toContain("\u202e");
  expect(shown.text()).toContain("The first 2 of 40 folders and 2,500 files.");
  // What was gone to is read out.
  expect(document.activeElement?.textContent).toBe("/coast");
  await go("ullin");
  expect(taken()).toEqual([{ folder: "/coast", sample: "ullin\u202e.csv" }]);
  await go("in");
  expect(shown.text()).toContain("Nothing lies here.");
  button("Take it without a sample").click();
  await flushPromises();
  expect(taken()[1]).toEqual({ folder: "/coast/in", sample: null });
  button("Up").click();
  await flushPromises();
  expect(shown.text()).toContain("2,500 files");
});

it("a folder that cannot be looked at says why, and one begins again", async () => {
  service({
    "GET /service": { timezone: "UTC" },
    "GET /folders": (one) => (one.query.get("path") ? new Refusal(403, "`/coast` is not below the roots") : roots),
  });
  shown = await show(FolderPick, { modelValue: null });
  await go("/coast");
  expect(shown.find("[role=alert]").text()).toBe("`/coast` is not below the roots");
  button("Begin again").click();
  await flushPromises();
  expect(shown.text()).toContain("The roots of this service");
});
