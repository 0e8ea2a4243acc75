// @vitest-environment jsdom
import { afterEach, expect, it } from "vitest";
import { entry, output } from "../testing/entries";
import { Refusal, service, showAt, signedIn } from "../testing/page";
import type { Batch, EntryDetail, Role } from "../support/types";
import EntryView from "./EntryView.vue";

const batch = (of: Partial<Batch>): Batch => ({
  id: 5,
  attempt: 1,
  begun_at: "2026-01-31T06:00:05Z",
  ended_at: "2026-01-31T06:00:06Z",
  entries: 3,
  outcome: "worked",
  outputs: [],
  outputs_count: 1,
  words: "52 rows",
  work: "merge",
  ...of,
});

let shown: Awaited<ReturnType<typeof showAt>> | undefined;
afterEach(() => shown?.unmount());

async function open(of: Partial<EntryDetail>, role: Role = "admin") {
  service({
    "GET /session": signedIn({ role }),
    "GET /service": { timezone: "Europe/Oslo" },
    "GET /entries/17": entry(of),
  });
  shown = await showAt(EntryView, "/entries/17");
  return shown.text().replaceAll(/\s+/g, " ");
}
const buttons = () => shown!.findAll("button").map((one) => one.text());
const links = () => shown!.findAll("a").map((one) => one.attributes("href"));

it("of a filed file it says where it lies, that it is the same, and what it is", async () => {
  const text = await open({ rows: 26, bytes: 123_456, fields: { station: "ullin" } });
  expect(text).toContain("/archive/tide/tide_0131.csv");
  expect(text).toContain("the same file");
  expect(text).toContain("120.6 KiB (123,456 bytes)");
  expect(text).toContain("2026-01-31 06:58:00 Europe/Oslo");
  expect(text).toContain("Fields from its path");
  expect(links()).toContain("/api/v1/entries/17/file");
  expect(links()).toContain("/table?path=/archive/tide/tide_0131.csv");
});

it.each([
  ["changed", "ANOTHER FILE"],
  ["missing", "NOTHING: it was taken away"],
  ["unreadable", "it cannot be looked at"],
] as const)("a file that is %s is neither handed out nor looked into", async (status, words) => {
  expect(await open({ location: { path: "/archive/tide/tide_0131.csv", status } })).toContain(words);
  expect(links().some((one) => one?.includes("/file") || one?.startsWith("/table"))).toBe(false);
});

it("a held one says why, and what an operator and an admin can do", async () => {
  const held = { state: "held", reason: "it has no column `level_m`\u001b[2J", tries: 3 } as const;
  const text = await open(held, "operator");
  expect(text).toContain("Held because it has no column `level_m`");
  expect(text).not.toContain("\u001b");
  expect(buttons()).toEqual(["Work again …", "File as it is …"]);
  shown!.unmount();
  await open(held, "admin");
  expect(buttons()).toEqual(["Work again …", "File as it is …", "Delete the file …"]);
  shown!.unmount();
  await open(held, "viewer");
  expect(buttons()).toEqual([]);
});

it("rows in a database can be looked at by all and taken out by an admin alone", async () => {
  const loaded = { worked_in: batch({ work: "load", outputs: [output({ has_rows: true, role: "load" })] }) };
  await open(loaded, "admin");
  expect(buttons()).toContain("Take its rows out …");
  shown!.unmount();
  await open(loaded, "operator");
  expect(buttons()).not.toContain("Take its rows out …");
});

it("a repeat, a revision and a member lead to what they are of", async () => {
  const repeat = await open({ state: "repeat", repeat_of: 4, worked_at: null });
  expect(repeat).toContain("the same content came before, so it was not worked again");
  expect(links()).toContain("/entries/4");
  shown!.unmount();
  // One that was worked all the same is no repeat any more.
  expect(await open({ repeat_of: 4 })).not.toContain("A repeat of");
  shown!.unmount();
  expect(await open({ revision_of: 9 })).toContain("entry 9 of the same name had other content");
  shown!.unmount();
  const origin = { batch: 2, entry: 3, gate: "post", path: "inner/tide.csv", role: "member" } as const;
  expect(await open({ made_from: origin })).toContain("A member of entry 3, inner/tide.csv, of gate post.");
  shown!.unmount();
  const made = { ...origin, entry: null, path: null, role: "rows" } as const;
  expect(await open({ made_from: made })).toContain("Made from batch 2 of gate post.");
});

it("what is forgotten is not forgotten twice, and what is packed says how", async () => {
  const text = await open({ forgotten: true, packing: "gzip", filed_bytes: 512 });
  expect(text).toContain("the same content can come again");
  expect(text).toContain("by gzip, 512 B there");
  expect(buttons()).not.toContain("Forget …");
});

it("one that is not there is told", async () => {
  service({
    "GET /session": signedIn({}),
    "GET /service": { timezone: "UTC" },
    "GET /entries/17": new Refusal(404, "no entry has the number 17"),
  });
  shown = await showAt(EntryView, "/entries/17");
  expect(shown.text()).toContain("no entry has the number 17");
});
