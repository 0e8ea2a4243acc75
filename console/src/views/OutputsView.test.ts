// @vitest-environment jsdom
import { flushPromises } from "@vue/test-utils";
import { afterEach, beforeEach, expect, it, vi } from "vitest";
import { outputPart } from "../testing/entries";
import { type Asked, Refusal, choose, service, showAt } from "../testing/page";
import { ROW, withRoom } from "../testing/sizes";
import OutputsView from "./OutputsView.vue";

const gates = { "GET /gates": [{ name: "tide" }, { name: "wave" }], "GET /service": { timezone: "UTC" } };
const part = (at: number) => outputPart({ path: `/out/tide_${String(at).padStart(4, "0")}.csv` });

let shown: Awaited<ReturnType<typeof showAt>> | undefined;
beforeEach(withRoom);
afterEach(() => shown?.unmount());
const status = () => shown!.get("p[role=status]").text();

it("the next page is read when the end comes near, and never twice", async () => {
  const page = ({ query }: Asked) => {
    const from = Number(query.get("cursor")?.slice(10, 14) ?? -1) + 1;
    const outputs = Array.from({ length: Math.min(100, 130 - from) }, (_, at) => part(from + at));
    return { outputs, next: from + outputs.length < 130 ? outputs.at(-1)!.path : null };
  };
  const { asked } = service({ ...gates, "GET /outputs/all": page });
  shown = await showAt(OutputsView, "/outputs");
  expect(status()).toBe("100 read so far");
  const scroller = shown.get("table").element.closest<HTMLElement>("[class*=overflow]")!;
  scroller.scrollTop = 100 * ROW;
  scroller.dispatchEvent(new Event("scroll"));
  await flushPromises();
  await vi.waitFor(() => expect(status()).toBe("130 outputs"));
  const cursors = asked.filter((one) => one.path === "/outputs/all").map((one) => one.query.get("cursor"));
  expect(cursors).toEqual([null, "/out/tide_0099.csv"]);
});

it("a file can be looked into, followed, and taken home; a table of a database is no file", async () => {
  const outputs = [
    outputPart({ path: "/out/über #1.csv", label: "output of rows", entries: 1, rows: 1 }),
    outputPart({ path: "sqlite:/out/coast.db#tide", label: "table of a database", rows: null }),
  ];
  service({ ...gates, "GET /outputs/all": { outputs, next: null } });
  shown = await showAt(OutputsView, "/outputs");
  const [file, table] = shown.findAll("tbody tr[data-index]");
  expect(file!.text().replaceAll(/\s+/g, " ")).toContain("1 file, 1 row");
  const links = file!.findAll("a").map((one) => one.attributes("href"));
  const escaped = encodeURIComponent("/out/über #1.csv");
  expect(links[0]).toMatch(/^\/table\?path=\/out\/%C3%BCber(%20|\+)%231\.csv$/);
  expect(links[1]).toMatch(/^\/lineage\?output=/);
  expect(links[2]).toBe(`/api/v1/outputs/file?path=${escaped}`);
  expect(table!.text()).not.toContain("download");
  expect(table!.text()).toContain("3 files");
  expect(table!.text()).not.toContain("row,");
});

it("what is asked for is asked of the service, and what is not found is said", async () => {
  const { asked } = service({ ...gates, "GET /outputs/all": { outputs: [], next: null } });
  shown = await showAt(OutputsView, "/outputs");
  expect(shown.text()).toContain("Nothing was made yet.");
  await choose("Gate", "wave");
  await choose("What", "rows set aside");
  await shown.get("input[type=search]").setValue("  ullin ");
  await flushPromises();
  const last = asked.at(-1)!.query;
  expect([last.get("gate"), last.get("role"), last.get("text")]).toEqual(["wave", "set aside", "ullin"]);
  expect(shown.text()).toContain("No output is so.");
});

it("what goes wrong is told", async () => {
  service({ ...gates, "GET /outputs/all": new Refusal(503, "the ledger is busy") });
  shown = await showAt(OutputsView, "/outputs");
  expect(shown.text()).toContain("the ledger is busy");
  expect(shown.text()).not.toContain("Nothing was made yet.");
});
