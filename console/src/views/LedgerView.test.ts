// @vitest-environment jsdom
import { flushPromises } from "@vue/test-utils";
import { afterEach, beforeEach, expect, it, vi } from "vitest";
import { entry } from "../testing/entries";
import { type Asked, Refusal, button, choose, service, showAt, signedIn } from "../testing/page";
import { ROW, withRoom } from "../testing/sizes";
import LedgerView from "./LedgerView.vue";

/** A ledger of so many entries, which answers as the service does. */
function ledger(count: () => number, more = {}) {
  const all = () => Array.from({ length: count() }, (_, at) => entry({ id: count() - at, path: `tide-${at}.csv` }));
  return service({
    "GET /session": signedIn({}),
    "GET /service": { timezone: "UTC" },
    "GET /gates": [{ name: "tide" }, { name: "wave" }],
    "GET /entries": ({ query }: Asked) => {
      const below = Number(query.get("cursor") ?? count() + 1);
      const fitting = all().filter((one) => one.id < below);
      const entries = fitting.slice(0, Number(query.get("limit")));
      return { entries, next: fitting.length > entries.length ? entries.at(-1)!.id : null };
    },
    "GET /entries/count": ({ query }: Asked) => {
      const above = Number(query.get("above") ?? 0);
      const entries = all().filter((one) => one.id > above);
      return query.get("by") === "state" ? [{ entries: entries.length, bytes: 1024 }] : [{ entries: entries.length }];
    },
    ...more,
  });
}

let shown: Awaited<ReturnType<typeof showAt>> | undefined;
beforeEach(withRoom);
afterEach(() => shown?.unmount());
const text = () => shown!.text().replaceAll(/\s+/g, " ");
const rows = () => shown!.findAll("tbody tr[data-index]").map((one) => one.find("a").text());
const listed = (asked: Asked[]) => asked.filter((one) => one.path === "/entries").map((one) => one.query);

it("the newest come first, the next are read when they are near, and the whole is counted", async () => {
  const { asked } = ledger(() => 230);
  shown = await showAt(LedgerView, "/ledger");
  expect(rows()[0]).toBe("230");
  expect(text()).toContain("230 entries, 1.0 KiB · 100 read so far");
  const scroller = shown.get("table").element.closest<HTMLElement>("[class*=overflow]")!;
  scroller.scrollTop = 100 * ROW;
  scroller.dispatchEvent(new Event("scroll"));
  await vi.waitFor(() => expect(text()).toContain("200 read so far"));
  expect(listed(asked).map((query) => query.get("cursor"))).toEqual([null, "131"]);
});

it("what comes meanwhile moves nothing under the reader, and is shown when it is wanted", async () => {
  let count = 20;
  ledger(() => count);
  shown = await showAt(LedgerView, "/ledger");
  expect(rows()[0]).toBe("20");
  count = 23;
  await shown.queryClient.invalidateQueries({ queryKey: ["entries"] });
  await flushPromises();
  await flushPromises();
  expect(rows()[0]).toBe("20");
  button("3 new: show them").click();
  await vi.waitFor(() => expect(rows()[0]).toBe("23"));
  expect(text()).not.toContain("new: show");
});

it("an empty ledger says how it fills, and shows the first entry when it comes", async () => {
  let count = 0;
  ledger(() => count);
  shown = await showAt(LedgerView, "/ledger");
  expect(text()).toContain("The ledger is empty.");
  count = 1;
  await shown.queryClient.invalidateQueries({ queryKey: ["entries"] });
  await vi.waitFor(() => expect(rows()).toEqual(["1"]));
});

it("what is searched for stands in the address, and an address is what is searched for", async () => {
  const { asked } = ledger(() => 3);
  shown = await showAt(LedgerView, "/ledger?gate=wave&state=held");
  const first = listed(asked)[0]!;
  expect([first.get("gate"), first.get("state")]).toEqual(["wave", "held"]);
  await choose("Gate", "tide");
  await flushPromises();
  expect(shown.router.currentRoute.value.query).toEqual({ gate: "tide", state: "held" });
  expect(listed(asked).at(-1)!.get("gate")).toBe("tide");
  await shown.router.push("/ledger?gate=wave");
  await flushPromises();
  expect(listed(asked).at(-1)!.get("gate")).toBe("wave");
  expect(listed(asked).at(-1)!.get("state")).toBeNull();
});

it("entries of one state can be seen to together, for just what is searched for", async () => {
  const { orders } = ledger(() => 3, { "POST /entries/actions": { done: [1, 2, 3], made: [], refused: [] } });
  shown = await showAt(LedgerView, "/ledger?gate=tide&state=held");
  expect(text()).toContain("All of these:");
  button("Work again …").click();
  await flushPromises();
  expect(orders()[0]?.body).toMatchObject({
    action: "again",
    fitting: { gate: "tide", state: "held" },
    rehearse: true,
  });
});

it("it is saved as it is searched for at that moment", async () => {
  ledger(() => 3);
  shown = await showAt(LedgerView, "/ledger?gate=tide&sort=size&up=true");
  const link = shown.get<HTMLAnchorElement>("a[download='entries.csv']");
  link.element.addEventListener("click", (event) => event.preventDefault());
  await link.trigger("click");
  const address = new URL(link.element.href);
  expect(address.pathname).toBe("/api/v1/entries.csv");
  expect(address.searchParams.get("gate")).toBe("tide");
  expect(address.searchParams.get("sort")).toBe("size");
});

it("files of one output are that alone, until one wants all again", async () => {
  const { asked } = ledger(() => 2);
  shown = await showAt(LedgerView, "/ledger?output=/out/tide.csv");
  expect(text()).toContain("Only files that are in");
  expect(listed(asked)[0]!.get("output")).toBe("/out/tide.csv");
  button("All files").click();
  await flushPromises();
  expect(listed(asked).at(-1)!.get("output")).toBeNull();
});

it("what is not found is said, and what goes wrong is told", async () => {
  ledger(() => 0);
  shown = await showAt(LedgerView, "/ledger?text=nothing");
  expect(text()).toContain("No entry is so.");
  shown.unmount();
  document.body.innerHTML = "";
  ledger(() => 0, { "GET /entries": new Refusal(422, "`field` is NAME=VALUE") });
  shown = await showAt(LedgerView, "/ledger?field=odd");
  expect(text()).toContain("`field` is NAME=VALUE");
  expect(text()).not.toContain("The ledger is empty.");
});
