// @vitest-environment jsdom
import { RouterLinkStub } from "@vue/test-utils";
import { afterEach, expect, it } from "vitest";
import { quiet } from "../testing/board";
import { cell } from "../testing/dues";
import { service, show } from "../testing/page";
import type { Board, DueCell, Happening } from "../support/types";
import MorningNeeds from "./MorningNeeds.vue";

const late = (value: string, of: Partial<DueCell> = {}) =>
  cell({ value, state: "late", words: "nothing came yet", ...of });
const happened = (of: Partial<Happening>): Happening => ({
  id: 1,
  at: "2026-01-31T05:00:00Z",
  about: "tide",
  kind: "unusual",
  subject: "ullin.csv",
  words: "a tenth of its usual size",
  entry: null,
  lasts: false,
  ended_at: null,
  ended_words: null,
  ...of,
});

let shown: Awaited<ReturnType<typeof show>> | undefined;
afterEach(() => shown?.unmount());
const headings = () => shown!.findAll("h2").map((one) => one.text());
const places = () => shown!.findAllComponents(RouterLinkStub).map((one) => one.props("to") as object);

it("a quiet night shows nothing at all", async () => {
  service({ "GET /service": { timezone: "UTC" } });
  shown = await show(MorningNeeds, { board: quiet });
  expect(shown.text()).toBe("");
});

it("says what is wrong in the order of its weight, and leads to where it can be mended", async () => {
  service({ "GET /service": { timezone: "Europe/Oslo" } });
  const board: Board = {
    ...quiet,
    late: [late("ullin-bay"), late("garrow", { value: null, state: "missing" })],
    late_count: 2,
    held: [{ gate: "wave", reason: "`x\u202e` must be a number", count: 1_200, entries: [42, 43], since: quiet.at }],
    breaches: [happened({ kind: "breach", subject: "gate wave", words: "more than 100 files wait" })],
    troubled: [{ gate: "wind", problem: "its drop folder is not there" }],
    silent: [{ name: "harbour", about: [], of: [], receiver: "mail", waiting: 3, failed: 1, problem: "refused: 550" }],
    unusual: [happened({ entry: 7 })],
    paused: [{ gate: "ice", pause: { at: quiet.at, by: "ada", why: "the ice is out", until: null } as never }],
    untaken: [{ gate: "tide", files: 1 }],
  };
  shown = await show(MorningNeeds, { board });
  expect(headings().map((one) => one.replace(/all$/, ""))).toEqual([
    "2 late or missing",
    "1 reason for which files are held",
    "1 limit broken",
    "1 trouble of gates",
    "1 tell that does not arrive",
    "1 unusual file",
    "1 gate paused",
    "1 gate with files that no pattern takes",
  ]);
  const text = shown.text();
  // Times are those of the service's zone.
  expect(text).toContain("late since 2026-01-31 07:00");
  expect(text).toContain("nightlymissing since 2026-01-31 07:00");
  expect(text).toContain("wave: 1,200 held");
  expect(text).not.toContain("\u202e");
  expect(text).toContain("3 waiting, 1 given up: refused: 550");
  expect(places()).toEqual(
    expect.arrayContaining([
      { name: "morning", query: { due: "nightly" } },
      { name: "held", query: { entry: "42" } },
      { name: "entry", params: { id: "7" } },
      { name: "gate", params: { gate: "wind" } },
    ]),
  );
});

it("of many the first are shown, and how many there are", async () => {
  service({ "GET /service": { timezone: "UTC" } });
  const all = Array.from({ length: 9 }, (_, at) => late(`gauge ${at}`));
  shown = await show(MorningNeeds, { board: { ...quiet, late: all, late_count: 2_500 } });
  expect(headings()).toEqual(["2,500 late or missing"]);
  expect(shown.findAll("li")).toHaveLength(7);
  expect(shown.text()).toContain("and 2,494 more");
});
