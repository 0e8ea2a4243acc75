// @vitest-environment jsdom
import { flushPromises } from "@vue/test-utils";
import { beforeEach, expect, it, vi } from "vitest";
import { toFilter } from "../support/ledger";
import { given, service, show } from "../testing/page";
import LedgerFilters from "./LedgerFilters.vue";
import PickList from "./PickList.vue";

beforeEach(() => {
  vi.useFakeTimers({ toFake: ["Date", "setInterval", "clearInterval"], now: Date.parse("2026-03-01T22:30:00Z") });
  // There it is the next day already.
  service({ "GET /service": { timezone: "Asia/Tokyo" }, "GET /gates": [{ name: "tide" }, { name: "waves" }] });
});

const filters = (query: Record<string, string> = {}, fields: string[] = []) =>
  show(LedgerFilters, { modelValue: toFilter(query), fields });
type Shown = Awaited<ReturnType<typeof filters>>;
const pick = (shown: Shown, label: string) =>
  shown.findAllComponents(PickList).find((one) => given(one, "label") === label)!;
const chosen = (shown: Shown) => shown.emitted<[ReturnType<typeof toFilter>]>("update:modelValue")?.at(-1)?.[0];

it("gates are those that there are, and days are those of the service's time zone", async () => {
  const shown = await filters();
  const values = (label: string) =>
    (given(pick(shown, label), "choices") as { value: string }[]).map((one) => one.value);
  expect(values("Gate")).toEqual(["", "tide", "waves"]);
  expect(values("State")).toContain("passed over");
  const times = values("Entered");
  expect(times[4]).toBe("2026-03-02");
  expect(times.slice(5, 11).at(-1)).toBe("2026-02-24");
  expect(times.at(-1)).toBe("days");
  shown.unmount();
});

it("a day by its name is a span of one day, and a span of hours has no days", async () => {
  const shown = await filters();
  pick(shown, "Entered").vm.$emit("update:modelValue", "2026-03-01");
  await flushPromises();
  expect(chosen(shown)).toMatchObject({ period: "days", from: "2026-03-01", to: "2026-03-01" });
  await shown.setProps({ modelValue: chosen(shown)! });
  expect(given(pick(shown, "Entered"), "modelValue")).toBe("2026-03-01");
  expect(shown.find('input[type="date"]').exists()).toBe(false);
  pick(shown, "Entered").vm.$emit("update:modelValue", "24h");
  await flushPromises();
  expect(chosen(shown)).toMatchObject({ period: "24h", from: "", to: "" });
  shown.unmount();
});

it("days of one's own choice are asked for", async () => {
  const shown = await filters({ from: "2026-01-05", to: "2026-01-09" });
  expect(given(pick(shown, "Entered"), "modelValue")).toBe("days");
  const days = shown.findAll<HTMLInputElement>('input[type="date"]');
  expect(days.map((one) => one.element.value)).toEqual(["2026-01-05", "2026-01-09"]);
  shown.unmount();
});

it("columns can be chosen only where files have fields", async () => {
  const without = await filters();
  expect(without.text()).not.toContain("Columns");
  without.unmount();
  const shown = await filters({ columns: "station" }, ["station", "day"]);
  expect(shown.text()).toContain("Columns");
  shown.unmount();
});
