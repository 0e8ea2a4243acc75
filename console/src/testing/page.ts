/** A component on a page of its own, before a service that answers as a test says. */

import { QueryClient, VueQueryPlugin } from "@tanstack/vue-query";
import { RouterLinkStub, flushPromises, mount } from "@vue/test-utils";
import { vi } from "vitest";
import type { Component } from "vue";
import { defineComponent, h } from "vue";
import { type RouteRecordRaw, RouterView, createMemoryHistory, createRouter } from "vue-router";
import { routes } from "../router";
import type { Session } from "../support/types";

/** What was asked of the service. */
export interface Asked {
  method: string;
  /** Below `/api/v1`, without its query. */
  path: string;
  query: URLSearchParams;
  body: unknown;
}

/** An answer: what is sent as JSON, or a status with a problem in words. */
export type Answer = (asked: Asked) => unknown;

export class Refusal {
  constructor(
    readonly status: number,
    readonly detail: string,
  ) {}
}

export const signedIn = (of: Partial<Session>): Session => ({
  by_name: true,
  local: false,
  name: "nightwatch",
  role: "operator",
  signed_in: true,
  ...of,
});

/**
 * Has the service answer by method and path, such as `GET /session`; what a test does not
 * expect is a failure of the test.
 */
export function service(answers: Record<string, Answer | object>) {
  const asked: Asked[] = [];
  vi.stubGlobal("fetch", async (url: string, request: RequestInit) => {
    const at = new URL(url, "http://service.example");
    const one: Asked = {
      method: request.method ?? "GET",
      path: at.pathname.replace("/api/v1", ""),
      query: at.searchParams,
      body: typeof request.body === "string" ? JSON.parse(request.body) : undefined,
    };
    asked.push(one);
    const answer = answers[`${one.method} ${one.path}`];
    if (answer === undefined) throw new Error(`nobody expects ${one.method} ${one.path}`);
    const content = typeof answer === "function" ? await (answer as Answer)(one) : answer;
    if (content instanceof Refusal) {
      return new Response(JSON.stringify({ status: content.status, detail: content.detail }), {
        status: content.status,
      });
    }
    if (content === undefined) return new Response(null, { status: 204 });
    return new Response(JSON.stringify(content), { status: 200 });
  });
  return { asked, orders: () => asked.filter((one) => one.method !== "GET") };
}

const plugins = () => {
  const queryClient = new QueryClient({ defaultOptions: { queries: { retry: false } } });
  return { queryClient, plugin: [VueQueryPlugin, { queryClient }] as [typeof VueQueryPlugin, object] };
};

/** Shows a component, and waits until it has its answers. */
export async function show<Props extends object>(component: Component, props: Props, slots = {}) {
  const { plugin, queryClient } = plugins();
  const shown = mount(component, {
    props: props as never,
    slots,
    attachTo: document.body,
    global: { plugins: [plugin], stubs: { RouterLink: RouterLinkStub } },
  });
  await flushPromises();
  // What is measured is shown by the next turn.
  await flushPromises();
  return Object.assign(shown, { queryClient });
}

/**
 * Shows a page at an address of the console, as its route has it; other pages are nothing but
 * their addresses.
 */
export async function showAt(page: Component, address: string) {
  const { plugin, queryClient } = plugins();
  const nothing = defineComponent(() => () => h("div"));
  const to = (component: (route: RouteRecordRaw) => Component) =>
    createRouter({
      history: createMemoryHistory(),
      routes: routes.map((route) => ({ ...route, component: component(route) }) as RouteRecordRaw),
    });
  const { name } = to(() => nothing).resolve(address);
  const router = to((route) => (route.name === name ? page : nothing));
  await router.push(address);
  const shown = mount(RouterView, { attachTo: document.body, global: { plugins: [plugin, router] } });
  await flushPromises();
  await flushPromises();
  return Object.assign(shown, { queryClient, router });
}

/** Runs a composable in a component that shows nothing. */
export function within<T>(use: () => T) {
  const { plugin, queryClient } = plugins();
  let made: T | undefined;
  const Host = defineComponent({
    setup() {
      made = use();
      return () => h("div");
    },
  });
  const host = mount(Host, { global: { plugins: [plugin] } });
  return { made: made as T, queryClient, end: () => host.unmount() };
}

/** Buttons with these words. */
export const button = (words: string) => {
  const all = [...document.querySelectorAll<HTMLButtonElement>("button")];
  const found = all.find((one) => one.textContent?.trim() === words);
  if (found === undefined) throw new Error(`no button says ${words}: ${all.map((one) => one.textContent?.trim())}`);
  return found;
};

/** Presses something that listens to the pointer, as a person does. */
export async function press(one: Element) {
  for (const kind of ["pointerdown", "mousedown", "pointerup", "mouseup", "click"]) {
    one.dispatchEvent(new MouseEvent(kind, { bubbles: true, button: 0 }));
  }
  await flushPromises();
}

/** Chooses one of a list that opens. */
export async function choose(list: string, words: string) {
  const named = (one: Element, words: string) => one.textContent?.trim().replaceAll(/\s+/g, " ").startsWith(words);
  const opens = [...document.querySelectorAll("button[aria-haspopup=listbox]")].find((one) => named(one, list));
  if (opens === undefined) throw new Error(`no list is called ${list}`);
  await press(opens);
  const option = [...document.querySelectorAll("[role=option]")].find((one) => named(one, words));
  if (option === undefined) throw new Error(`${list} has no choice ${words}`);
  await press(option);
}

/** Types into a field, as a person does. */
export async function type(label: string, text: string) {
  const field = document.querySelector<HTMLInputElement>(`input[aria-label="${label}"], input[type="${label}"]`);
  if (field === null) throw new Error(`there is no field ${label}`);
  field.value = text;
  field.dispatchEvent(new Event("input"));
  field.dispatchEvent(new Event("change"));
  await flushPromises();
}

/** What a component was given; those of generic components have no types of their own. */
export const given = (one: { props(): object }, name: string) => (one.props() as Record<string, unknown>)[name];

/** By which keys something was asked for again; `all` where everything was. */
export const askedAgain = (calls: unknown[][]) =>
  calls.map(([of]) => (of as { queryKey?: string[] } | undefined)?.queryKey?.[0] ?? "all").sort();
