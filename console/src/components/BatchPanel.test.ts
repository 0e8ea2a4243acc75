// @vitest-environment jsdom
import { RouterLinkStub, mount } from "@vue/test-utils";
import { expect, it } from "vitest";
import type { Batch, Output } from "../support/types";
import BatchPanel from "./BatchPanel.vue";

const output = (of: Partial<Output>): Output => ({
  path: "/out/tide.csv",
  mode: "append",
  bytes: 2048,
  rows: 3,
  sha256: null,
  published_at: "2026-01-31T06:00:00Z",
  role: "rows",
  label: "output",
  has_rows: false,
  proof: null,
  account: null,
  ...of,
});

const batch = (outputs: Output[]): Batch => ({
  id: 7,
  work: "merge",
  attempt: 1,
  begun_at: "2026-01-31T06:00:00Z",
  ended_at: null,
  outcome: null,
  words: "",
  entries: 2,
  outputs,
});

const panel = (outputs: Output[]) =>
  mount(BatchPanel, { props: { batch: batch(outputs), entry: 1 }, global: { stubs: { RouterLink: RouterLinkStub } } });

it("an output is named as the service names it, and a table file can be looked into", () => {
  const shown = panel([output({})]);
  expect(shown.text()).toContain("Output");
  expect(shown.text()).toContain("3 rows");
  expect(shown.findComponent(RouterLinkStub).props("to")).toEqual({
    name: "table",
    query: { path: "/out/tide.csv" },
  });
});

it("rows that stand in a place are linked to there, whatever work put them there", () => {
  const shown = panel([output({ role: "load", label: "table", has_rows: true, path: "sqlite:/out/sound.db#tide" })]);
  expect(shown.text()).toContain("Table");
  expect(shown.findComponent(RouterLinkStub).props("to")).toEqual({ name: "rows", params: { id: 1 } });
});
