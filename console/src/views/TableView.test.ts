// @vitest-environment jsdom
import { afterEach, expect, it } from "vitest";
import { account, entry, output, outputPart } from "../testing/entries";
import { Refusal, choose, service, showAt } from "../testing/page";
import type { LoadedRows, OutputAccount, Sample, SampleTable } from "../support/types";
import RowsView from "./RowsView.vue";
import TableView from "./TableView.vue";

const column = (name: string, of = {}) => ({
  name,
  type: "text",
  bars: [],
  different: 2,
  different_more: false,
  empty: 0,
  least: "a",
  most: "b",
  ...of,
});
const table = (of: Partial<SampleTable> = {}): SampleTable => ({
  columns: [column("station"), column("level_m", { type: "decimal" })],
  first: [
    ["ullin", "1.20"],
    ["scarp", null],
  ],
  more: false,
  rows: 26,
  sheet: null,
  ...of,
});
const sample = (of: Partial<Sample> = {}): Sample => ({
  format: "delimited text",
  encoding: "utf-8",
  delimiter: ";",
  tables: [table()],
  ...of,
});
const none: OutputAccount = { batches: 0, rows_in: 0, rows_out: 0, set_aside: 0, left_out: 0, parts: [], next: null };

let shown: Awaited<ReturnType<typeof showAt>> | undefined;
afterEach(() => shown?.unmount());
const text = () => shown!.text().replaceAll(/\s+/g, " ");

async function open(of: Partial<Sample>, account: OutputAccount = none) {
  const asked = service({
    "GET /service": { timezone: "UTC" },
    "GET /sample": sample(of),
    "GET /outputs": account,
  });
  shown = await showAt(TableView, "/table?path=/out/tide.csv");
  return asked;
}

it("it tells what kind of file it is, its columns, and its first rows", async () => {
  const { asked } = await open({});
  expect(asked.find((one) => one.path === "/sample")?.query.get("path")).toBe("/out/tide.csv");
  expect(text()).toContain("delimited text, utf-8, separated by semicolons");
  expect(text()).toContain("2 columns, of all 26 rows");
  expect(text()).toContain("First rows 2 rows");
  const cells = shown!
    .findAll("[aria-label='First rows'] tbody tr")
    .map((row) => row.findAll("td").map((one) => one.text()));
  expect(cells).toEqual([
    ["ullin", "1.20"],
    ["scarp", ""],
  ]);
  // A file that no gate wrote has no account, and none of its own to download.
  expect(shown!.find("a[download]").exists()).toBe(false);
});

it("of a long table it says that it has only looked at the beginning", async () => {
  await open({ tables: [table({ more: true, rows: 1000, about: 9_800_000 })] });
  expect(text()).toContain("of the first 1,000 rows of about 9,800,000");
});

it("each sheet of a workbook can be looked at, and what cannot be read is told", async () => {
  const sheets = [
    table({ sheet: "ullin", rows: 3 }),
    table({ sheet: "scarp", rows: 4, first: [], fault: "row 5 has 3 cells, and 2 are expected" }),
  ];
  await open({ format: "workbook", encoding: null, delimiter: null, tables: sheets });
  expect(text()).toContain("of all 3 rows");
  await choose("Sheet", "scarp");
  expect(text()).toContain("of all 4 rows");
  expect(text()).toContain("What follows cannot be read: row 5 has 3 cells");
  expect(text()).toContain("There is no row.");
});

it("a workbook with nothing in it has no table", async () => {
  await open({ tables: [] });
  expect(text()).toContain("There is no table in it.");
});

it("an output leads to what it came from, and is accounted for", async () => {
  const parts = [outputPart({ account: account({}) })];
  await open({}, { batches: 1, rows_in: 56, rows_out: 52, set_aside: 3, left_out: 1, parts, next: null });
  const links = shown!.findAll("a").map((one) => one.attributes("href"));
  expect(links).toContain("/lineage?output=/out/tide.csv");
  expect(links).toContain("/api/v1/outputs/file?path=%2Fout%2Ftide.csv");
  for (const figure of ["56", "52", "3", "1"]) expect(text()).toContain(figure);
});

it("what cannot be looked into is told", async () => {
  service({
    "GET /service": { timezone: "UTC" },
    "GET /sample": new Refusal(403, "`/etc/passwd` lies outside the roots"),
    "GET /outputs": none,
  });
  shown = await showAt(TableView, "/table?path=/etc/passwd");
  expect(text()).toContain("lies outside the roots");
  expect(text()).not.toContain("There is no table in it.");
});

const loaded = (of: Partial<LoadedRows> = {}): LoadedRows => ({
  by: "entry",
  columns: [
    { name: "station", type: "TEXT" },
    { name: "level_m", type: "NUMERIC" },
  ],
  entry: 17,
  more: true,
  output: "sqlite:/out/coast.db#tide",
  rows: [["ullin", "1.20"]],
  ...of,
});
async function openRows(of: Partial<LoadedRows>) {
  const load = output({ has_rows: true, role: "load", account: account({}) });
  const batch = { id: 5, attempt: 1, entries: 1, outputs: [load], outputs_count: 1, words: "", work: "load" } as const;
  const times = { begun_at: "2026-01-31T06:00:05Z", ended_at: null, outcome: null };
  service({
    "GET /service": { timezone: "UTC" },
    "GET /entries/17/rows": loaded(of),
    "GET /entries/17": entry({ worked_in: { ...batch, ...times, outputs: [load] } }),
  });
  shown = await showAt(RowsView, "/entries/17/rows");
}

it("rows in a database stand under the names and types of the table", async () => {
  await openRows({});
  expect(shown!.get("h1").text()).toBe("tide");
  expect(text()).toContain("Its first rows 1 row, and there are more");
  expect(
    shown!
      .findAll("thead th")
      .slice(0, 2)
      .map((one) => one.text()),
  ).toEqual(["station TEXT", "level_m NUMERIC"]);
  // What its own batch loaded, and no other's.
  expect(text()).toContain("52");
});

it("where no column tells whose rows are whose it says how they could be told apart", async () => {
  await openRows({ by: null, more: false });
  expect(text()).toContain("First rows of any entry");
  expect(text()).toContain('add = { entry = "<entry>" }');
});

it("rows that were taken out are not there", async () => {
  await openRows({ rows: [], more: false });
  expect(text()).toContain("There are no such rows.");
});
