// @vitest-environment jsdom
import { beforeEach, expect, it, vi } from "vitest";
import { createMemoryHistory, createRouter } from "vue-router";
import { router, routes } from "./router";

const nothing = { render: () => null };
const bare = () =>
  createRouter({
    history: createMemoryHistory(),
    routes: routes.map((route) => (route.redirect ? route : ({ ...route, component: nothing } as never))),
  });

beforeEach(() => vi.spyOn(window, "scrollTo").mockImplementation(() => undefined));

it("each page has an address and a name of its own, and can be read", async () => {
  const pages = routes.filter((route) => "component" in route && typeof route.component === "function");
  expect(pages.length).toBeGreaterThan(15);
  const names = pages.map((page) => page.name);
  expect(new Set(names).size).toBe(names.length);
  for (const page of pages) {
    const read = (page as { component: () => Promise<{ default: unknown }> }).component;
    expect((await read()).default, String(page.name)).toBeTypeOf("object");
  }
}, 60_000);

it.each([
  ["/entries/17", "entry", { id: 17 }],
  ["/entries/17/rows", "rows", { id: 17 }],
  ["/table?path=/out/tide.csv", "table", { path: "/out/tide.csv" }],
  ["/table", "table", { path: "" }],
  ["/lineage?entry=4", "lineage", { entry: 4, output: "" }],
  ["/lineage?output=/out/tide.csv", "lineage", { entry: null, output: "/out/tide.csv" }],
  ["/?due=nightly", "morning", { due: "nightly" }],
])("%s is the page %s, and is given what it is about", (address, name, given) => {
  const at = bare().resolve(address);
  expect(at.name).toBe(name);
  const props = at.matched.at(-1)?.props.default as unknown as (route: typeof at) => object;
  expect(props(at)).toEqual(given);
});

it("what is no number is no entry, and an address of earlier leads on", async () => {
  expect(bare().resolve("/entries/x").name).toBe("nothing");
  expect(bare().resolve("/no/such/page").name).toBe("nothing");
  const there = bare();
  await there.push("/morning?due=nightly");
  expect(there.currentRoute.value.fullPath).toBe("/?due=nightly");
});

it("only signing in and what is not there are open to everybody", () => {
  const open = routes.filter((route) => route.meta?.open === true).map((route) => route.name);
  expect(open).toEqual(["sign-in", "nothing"]);
});

it("the window is called after what is shown", async () => {
  for (const [address, title] of [
    ["/gates/tide", "Gate tide · Vadegate"],
    ["/entries/17", "Entry 17 · Vadegate"],
    ["/held", "Held files · Vadegate"],
    ["/no/such", "Nothing here · Vadegate"],
  ]) {
    await router.push(address!);
    expect(document.title).toBe(title);
  }
}, 60_000);
