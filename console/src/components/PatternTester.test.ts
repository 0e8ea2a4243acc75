// @vitest-environment jsdom
import { flushPromises } from "@vue/test-utils";
import { afterEach, expect, it } from "vitest";
import { Refusal, service, show } from "../testing/page";
import PatternTester from "./PatternTester.vue";

let shown: Awaited<ReturnType<typeof show>> | undefined;
afterEach(() => shown?.unmount());

async function typed(text: string) {
  const field = document.querySelector<HTMLInputElement>("#pattern")!;
  field.value = text;
  field.dispatchEvent(new Event("input"));
  await flushPromises();
}
const verdict = () => document.querySelector("#verdict")!.textContent!.replaceAll(/\s+/g, " ").trim();

it("each pattern is tried as it is typed, and says what it captures and why it leaves others", async () => {
  const { asked } = service({
    "GET /gates/tide/matches": (one) => ({
      pattern: one.query.get("pattern"),
      matched: [{ path: "ullin_20260131.csv", fields: { station: "ullin", day: "2026-01-31" } }],
      matched_count: 1_200,
      missed: [{ path: "notes\n.txt", because: "`.csv` is wanted at its end" }],
      missed_count: 1,
    }),
  });
  shown = await show(PatternTester, { gate: "tide", patterns: ["<station>_<day:%Y%m%d>.csv", "*.txt"] });
  expect(verdict()).toBe("It takes 1,200 files and leaves 1. The first of each are below.");
  const rows = [...document.querySelectorAll("li")].map((row) => row.textContent);
  expect(rows[0]).toContain("station ullin · day 2026-01-31");
  expect(rows[1]).toContain("`.csv` is wanted at its end");
  expect(rows[1]).not.toContain("\n");
  await typed("  *.csv ");
  await typed("");
  expect(asked.map((one) => one.query.get("pattern"))).toEqual(["<station>_<day:%Y%m%d>.csv", "*.csv"]);
});

it("a pattern that is none says why, and shows no files of another", async () => {
  service({
    "GET /gates/tide/matches": (one) =>
      one.query.get("pattern") === "*"
        ? { pattern: "*", matched: [{ path: "a.csv", fields: {} }], matched_count: 1, missed: [], missed_count: 0 }
        : new Refusal(400, "character 2: `>` is missing"),
  });
  shown = await show(PatternTester, { gate: "tide", patterns: [] });
  expect(verdict()).toBe("It takes 1 file and leaves 0.");
  await typed("<a");
  expect(verdict()).toBe("character 2: `>` is missing");
  expect(document.querySelector("li")).toBeNull();
});
