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
  note: null,
  figures: null,
  became: null,
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
  outputs_count: outputs.length,
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

it("members of an archive stand in their folders, and lead to the entries that they became", () => {
  const folder = output({ role: "unpacked", label: "unpacked", path: "/waves/night", note: "zip of 9 bytes: 2 files" });
  const member = (path: string, became: number | null) =>
    output({ role: "member", label: "member", path, became, rows: null });
  const shown = panel([folder, member("/waves/night/a.csv", 12), member("/waves/night/below/b.csv", null)]);
  expect(shown.text()).toContain("zip of 9 bytes: 2 files");
  expect(shown.text()).toContain("below/");
  expect(shown.findAllComponents(RouterLinkStub).map((link) => link.props("to"))).toEqual([
    { name: "entry", params: { id: 12 } },
  ]);
});

it("what was done at each place of a delivery is told", () => {
  const shown = panel([
    output({ role: "copy", label: "copy", mode: "create", rows: null, path: "/outbox/chart.png" }),
    output({
      role: "copy",
      label: "copy",
      mode: "leave",
      rows: null,
      bytes: null,
      note: "left: the same bytes are there",
    }),
  ]);
  expect(shown.text()).toContain("left: the same bytes are there");
  expect(shown.text()).toContain("left as it was");
});
