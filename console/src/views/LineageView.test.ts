// @vitest-environment jsdom
import { afterEach, expect, it } from "vitest";
import { Refusal, service, showAt } from "../testing/page";
import type { Family, FamilyMember } from "../support/types";
import LineageView from "./LineageView.vue";

const member = (key: string, of: Partial<FamilyMember> = {}): FamilyMember => ({
  key,
  kind: "entry",
  name: key,
  entry: null,
  gate: "tide",
  rows: null,
  state: null,
  ...of,
});
const source = (id: number) =>
  member(`entry ${id}`, { name: `ullin/tide_${id}.csv`, entry: id, state: "filed", rows: 26 });
const FAMILY: Family = {
  members: [
    source(1),
    source(2),
    member("work 5", { kind: "work", name: "merge" }),
    member("output /out/tide.csv", { kind: "output", name: "/out/tide.csv", rows: 52 }),
  ],
  links: [
    { from: "entry 1", to: "work 5" },
    { from: "entry 2", to: "work 5" },
    { from: "work 5", to: "output /out/tide.csv" },
  ],
  more: false,
};

let shown: Awaited<ReturnType<typeof showAt>> | undefined;
afterEach(() => shown?.unmount());
const placed = () =>
  shown!.findAll("li").map((one) => {
    const style = (one.element as HTMLElement).style;
    const words = [...one.element.children].map((part) => part.textContent?.trim());
    return { text: words.join(" "), left: parseInt(style.left), top: parseInt(style.top) };
  });

it("what came of something stands to the right of it, and nothing stands on anything", async () => {
  const { asked } = service({ "GET /family": FAMILY });
  shown = await showAt(LineageView, "/lineage?output=/out/tide.csv");
  expect(asked[0]?.query.get("output")).toBe("/out/tide.csv");
  const [one, two, work, output] = placed();
  expect(one!.text).toBe("Entry: tide_1.csv tide 1, filed, 26 rows");
  expect(work!.text).toBe("Batch: merge batch 5 of tide");
  expect(output!.text).toBe("Output: tide.csv output, 52 rows");
  expect(one!.left).toBe(two!.left);
  expect(work!.left).toBeGreaterThan(one!.left);
  expect(output!.left).toBeGreaterThan(work!.left);
  expect(two!.top - one!.top).toBeGreaterThanOrEqual(52);
  expect(shown.findAll("svg path")).toHaveLength(3);
});

it("entries lead to their pages, outputs to their own lineage, and the one that is asked about stands out", async () => {
  service({ "GET /family": FAMILY });
  shown = await showAt(LineageView, "/lineage?output=/out/tide.csv");
  const links = shown.findAll("li a").map((one) => one.attributes("href"));
  expect(links).toEqual(["/entries/1", "/entries/2", "/lineage?output=/out/tide.csv"]);
  const outlined = shown.findAll("li").filter((one) => one.classes("outline-accent"));
  expect(outlined.map((one) => one.text())).toEqual([expect.stringContaining("tide.csv")]);
});

it("of an entry its number is asked", async () => {
  const { asked } = service({ "GET /family": { ...FAMILY, more: true } });
  shown = await showAt(LineageView, "/lineage?entry=2");
  expect(Object.fromEntries(asked[0]!.query)).toEqual({ entry: "2" });
  expect(shown.get("a[href='/entries/2']").text()).toContain("entry 2");
  expect(shown.text()).toContain("There is more");
  // The ledger is asked by output.
  expect(shown.text()).not.toContain("All files that are in it");
});

it("what the ledger does not know is said, and what fails is told", async () => {
  service({ "GET /family": { members: [], links: [], more: false } });
  shown = await showAt(LineageView, "/lineage?output=/no/such");
  expect(shown.text()).toContain("Nothing is known of it.");
  shown.unmount();
  service({ "GET /family": new Refusal(404, "no entry has the number 4711") });
  shown = await showAt(LineageView, "/lineage?entry=4711");
  expect(shown.text()).toContain("no entry has the number 4711");
});
