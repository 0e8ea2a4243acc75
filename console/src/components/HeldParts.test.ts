// @vitest-environment jsdom
import { afterEach, expect, it } from "vitest";
import { account, handedIn, outputPart } from "../testing/entries";
import { Refusal, service, show } from "../testing/page";
import type { Excerpt, OutputAccount } from "../support/types";
import AccountPanel from "./AccountPanel.vue";
import ExcerptView from "./ExcerptView.vue";
import MendedNote from "./MendedNote.vue";

let shown: Awaited<ReturnType<typeof show>> | undefined;
afterEach(() => shown?.unmount());
const text = () => shown!.text().replaceAll(/\s+/g, " ");

const excerpt = (of: Partial<Excerpt> = {}): Excerpt => ({
  binary: false,
  line: 3,
  lines: [
    { number: 2, text: "ullin;1.20", cut: false },
    { number: 3, text: "scarp;n/a;n/a", cut: false },
    { number: 4, text: "garrow;" + "9".repeat(20), cut: true },
  ],
  more: true,
  quoted: ["n/a"],
  ...of,
});
async function look(of: Partial<Excerpt> | Refusal) {
  service({ "GET /entries/17/excerpt": of instanceof Refusal ? of : excerpt(of) });
  shown = await show(ExcerptView, { entry: 17 });
}

it("the faulty line stands out, and in it what the reason quotes", async () => {
  await look({});
  const lines = shown!.findAll("tr");
  expect(lines.map((one) => one.get("th").text())).toEqual(["2", "3", "4"]);
  expect(lines.map((one) => one.attributes("aria-current"))).toEqual([undefined, "true", undefined]);
  expect(shown!.findAll("mark").map((one) => one.text())).toEqual(["n/a", "n/a"]);
  // What else has these words has no fault.
  expect(lines[0]!.find("mark").exists()).toBe(false);
  expect(lines[2]!.text()).toContain("… (cut)");
});

it("what a line has that is not seen is shown, and does nothing", async () => {
  await look({ lines: [{ number: 3, text: "<b>x</b>\u001b[31m\u202e", cut: false }], quoted: [] });
  expect(shown!.find("b").exists()).toBe(false);
  expect(text()).not.toMatch(/\p{Cc}|\u202e/u);
  expect(text()).toContain("<b>x</b>");
});

it.each([
  [{ binary: true, lines: [] }, "It is no text; download it to look inside."],
  [{ lines: [], line: null }, "The file is empty."],
  [{ lines: [], line: 4_711 }, "The file has no line 4,711."],
])("of what has no lines to show it is said why: %j", async (of, words) => {
  await look(of);
  expect(text()).toBe(words);
});

it("what cannot be read is told", async () => {
  await look(new Refusal(404, "its file does not lie there any more"));
  expect(text()).toContain("its file does not lie there any more");
});

it("what became of a mended file is told with where it is", async () => {
  shown = await show(MendedNote, { became: handedIn({ entry: 21, state: "ready" }) });
  expect(text()).toBe("The mended file came as entry 21, ready; what was held is filed as it is.");
  shown.unmount();
  shown = await show(MendedNote, {
    became: handedIn({ entry: null, state: "arriving", reason: "it is not its time" }),
  });
  expect(text()).toContain("came as a file that waits, arriving: it is not its time;");
});

const whole = (of: Partial<OutputAccount> = {}): OutputAccount => ({
  batches: 2,
  rows_in: 56,
  rows_out: 52,
  set_aside: 3,
  left_out: 1,
  next: null,
  parts: [
    outputPart({ batch: 6, account: account({ columns: [{ name: "level_m", total: "61.20" }, { name: "time" }] }) }),
    outputPart({ batch: 5, account: null, role: "copy" }),
  ],
  ...of,
});

it("an account that adds up says so in figures, batch by batch", async () => {
  shown = await show(AccountPanel, { account: whole() });
  expect(text()).toContain("56 rows in = 52 out + 3 set aside + 1 left out");
  expect(text()).not.toContain("does not add up");
  const [newest, older] = shown.findAll("tbody tr").map((one) => one.text());
  expect(newest).toContain("level_m 61.20");
  expect(newest).not.toContain("time");
  expect(older).toContain("no rows of its own (copy)");
});

it("one that does not add up is loud, and one of many batches says which are shown", async () => {
  shown = await show(AccountPanel, { account: whole({ rows_out: 51, next: 4, batches: 1_200 }) });
  expect(text()).toContain("this does not add up");
  expect(shown.get("p.text-danger").text()).toContain("51");
  expect(text()).toContain("in 1,200 batches; these are the newest 2");
});

it("without totals there is no column for them", async () => {
  shown = await show(AccountPanel, { account: whole({ parts: [outputPart({ account: account({}) })] }) });
  expect(shown.findAll("thead th").map((one) => one.text())).not.toContain("Totals");
});
