// @vitest-environment jsdom
import { flushPromises } from "@vue/test-utils";
import { expect, it } from "vitest";
import { ref } from "vue";
import { toFilter } from "../support/ledger";
import { type Asked, service, within } from "../testing/page";
import { useLedger } from "./useLedger";

/** A ledger with entries up to a number, of which pages of a hundred are asked for. */
function ledger(newest: () => number, bytes = 10) {
  const count = ({ query }: Asked) => {
    const above = Number(query.get("above") ?? 0);
    return [{ entries: newest() - above, bytes: query.has("by") ? (newest() - above) * bytes : undefined }];
  };
  const page = ({ query }: Asked) => {
    const from = query.has("cursor") ? Number(query.get("cursor")) - 1 : newest();
    const ids = Array.from({ length: Math.min(100, from) }, (_, at) => from - at);
    const next = from > 100 ? from - 99 : null;
    return { entries: ids.map((id) => ({ id })), next };
  };
  return service({ "GET /service": { timezone: "UTC" }, "GET /entries": page, "GET /entries/count": count });
}

it("what comes while a list is read is counted, and the list does not move", async () => {
  let newest = 250;
  ledger(() => newest);
  const { made, queryClient, end } = within(() => useLedger(ref(toFilter({}))));
  await flushPromises();
  expect(made.entries.value.map((one) => one.id).slice(0, 2)).toEqual([250, 249]);
  expect(made.total.value).toEqual({ entries: 250, bytes: 2500 });
  newest = 262;
  await queryClient.invalidateQueries();
  await flushPromises();
  expect(made.newer.value).toBe(12);
  expect(made.entries.value[0]!.id).toBe(250);
  await made.fetchNextPage();
  expect(made.entries.value).toHaveLength(200);
  expect(new Set(made.entries.value.map((one) => one.id)).size).toBe(200);
  made.begin();
  await flushPromises();
  expect(made.entries.value[0]!.id).toBe(262);
  expect(made.newer.value).toBe(0);
  end();
});

it("bytes of a great many entries are not added up", async () => {
  const { asked } = ledger(() => 1_000_000);
  const { made, end } = within(() => useLedger(ref(toFilter({}))));
  await flushPromises();
  expect(made.total.value).toEqual({ entries: 1_000_000, bytes: null });
  expect(asked.filter((one) => one.query.get("by") === "state")).toEqual([]);
  end();
});

it("a list with nothing in it begins anew by itself", async () => {
  let newest = 0;
  ledger(() => newest);
  const { made, queryClient, end } = within(() => useLedger(ref(toFilter({}))));
  await flushPromises();
  expect(made.entries.value).toEqual([]);
  newest = 3;
  await queryClient.invalidateQueries();
  await flushPromises();
  expect(made.entries.value.map((one) => one.id)).toEqual([3, 2, 1]);
  end();
});

it("another filter is another list, and is asked for from its own newest on", async () => {
  const { asked } = ledger(() => 120);
  const filter = ref(toFilter({}));
  const { made, end } = within(() => useLedger(filter));
  await flushPromises();
  expect(made.top.value).toBe(120);
  filter.value = { ...filter.value, gate: "tide", state: "held" };
  await flushPromises();
  const last = asked.filter((one) => one.path === "/entries").at(-1)!;
  expect(last.query.get("gate")).toBe("tide");
  expect(last.query.get("state")).toBe("held");
  expect(last.query.has("cursor")).toBe(false);
  // Other columns are no other list.
  const before = asked.length;
  filter.value = { ...filter.value, columns: ["station"] };
  await flushPromises();
  expect(asked.length).toBe(before);
  expect(made.top.value).toBe(120);
  end();
});
