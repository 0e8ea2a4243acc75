// @vitest-environment jsdom
import { flushPromises, mount } from "@vue/test-utils";
import { afterEach, beforeEach, expect, it, vi } from "vitest";
import { defineComponent, h } from "vue";
import { RouterView, createMemoryHistory, createRouter } from "vue-router";
import { usePageFocus } from "./usePageFocus";

const page = (title: string, more: string = "") =>
  defineComponent(() => () => h("div", [h("h1", title), more === "" ? null : h("input", { id: more })]));
const Host = defineComponent(() => {
  usePageFocus();
  return () => h("main", h(RouterView));
});

let shown: ReturnType<typeof mount> | undefined;
let router: ReturnType<typeof createRouter>;
beforeEach(async () => {
  vi.spyOn(window, "scrollTo").mockImplementation(() => undefined);
  router = createRouter({
    history: createMemoryHistory(),
    routes: [
      { path: "/", component: page("Morning") },
      { path: "/gates", component: page("Gates", "find") },
      { path: "/held", component: page("Held") },
    ],
  });
  await router.push("/gates");
  shown = mount(Host, { attachTo: document.body, global: { plugins: [router] } });
  await flushPromises();
});
afterEach(() => shown?.unmount());
const focused = () => document.activeElement?.textContent;

it("the heading of a page that is gone to is read out, and the first page is left alone", async () => {
  expect(document.activeElement).toBe(document.body);
  await router.push("/held");
  await flushPromises();
  expect(focused()).toBe("Held");
  expect(document.activeElement?.getAttribute("tabindex")).toBe("-1");
  await router.push("/");
  await flushPromises();
  expect(focused()).toBe("Morning");
});

it("another question to the same page moves nothing", async () => {
  document.querySelector<HTMLInputElement>("#find")!.focus();
  await router.push("/gates?find=tide");
  await flushPromises();
  expect(document.activeElement?.id).toBe("find");
});

it("who types is not taken from it", async () => {
  const field = document.body.appendChild(document.createElement("input"));
  field.focus();
  await router.push("/held");
  await flushPromises();
  expect(document.activeElement).toBe(field);
});
