// @vitest-environment jsdom
import { flushPromises } from "@vue/test-utils";
import { afterEach, beforeEach, expect, it, vi } from "vitest";
import { type Answer, button, press, service, showAt, signedIn } from "./testing/page";
import type { Role } from "./support/types";

/** Events that a page follows: none come here. */
class Quiet extends EventTarget {
  static readonly CLOSED = 2;
  static opened: Quiet[] = [];
  readyState = 1;
  constructor(readonly url: string) {
    super();
    Quiet.opened.push(this);
  }
  close() {
    this.readyState = Quiet.CLOSED;
  }
}

const answers = (role: Role, more: Record<string, Answer | object> = {}) => ({
  "GET /session": signedIn({ role }),
  "GET /service": { timezone: "UTC", version: "1.2.3", configuration: "/coast/vadegate.toml", fault: null },
  ...more,
});

let shown: Awaited<ReturnType<typeof showAt>> | undefined;
beforeEach(() => {
  Quiet.opened = [];
  vi.stubGlobal("EventSource", Quiet);
  vi.stubGlobal("matchMedia", () => Object.assign(new EventTarget(), { matches: true }));
  vi.resetModules();
});
afterEach(() => shown?.unmount());

/** The bar, as it is above every page. */
async function bar(address: string, role: Role = "viewer", more = {}) {
  const asked = service(answers(role, more));
  const { default: AppBar } = await import("./components/AppBar.vue");
  shown = await showAt(AppBar, address);
  return asked;
}
const menu = async () => {
  await press(document.querySelector("[aria-label=Settings]")!);
  return [...document.querySelectorAll("[role=menuitem]")].map((one) => one.textContent?.trim());
};

it.each([
  ["/", "Morning"],
  ["/gates/tide", "Gates"],
  ["/entries/17", "Ledger"],
  ["/lineage?entry=1", "Outputs"],
  ["/clears", "Clears"],
])("at %s one is within %s", async (address, name) => {
  await bar(address);
  const within = shown!.findAll("nav a[aria-current=page]").map((one) => one.text());
  expect(within).toEqual([name]);
});

it("at an account one is within none of the pages", async () => {
  await bar("/account");
  expect(shown!.find("nav a[aria-current=page]").exists()).toBe(false);
});

it("it tells whether what is shown is live", async () => {
  await bar("/");
  const [events] = Quiet.opened;
  expect(events!.url).toBe("/api/v1/events");
  expect(shown!.get("[role=status]").text()).toBe("Connecting …");
  events!.dispatchEvent(new Event("open"));
  await flushPromises();
  expect(shown!.get("[role=status]").text()).toBe("Live");
  events!.dispatchEvent(new Event("error"));
  await flushPromises();
  expect(shown!.get("[role=status]").text()).toBe("Connection lost, trying again");
});

it("pages of administrators are in the menu of administrators alone", async () => {
  await bar("/", "operator");
  expect(await menu()).toEqual(["Account", "As the system ✓", "Light", "Dark", "Sign out"]);
  shown!.unmount();
  document.body.innerHTML = "";
  await bar("/", "admin");
  const items = await menu();
  expect(items.slice(0, 4)).toEqual(["Account", "Configuration", "People and tokens", "Audit log"]);
  expect(document.body.textContent).toContain("Version 1.2.3");
});

it("colours are chosen, kept by the browser, and follow the system until then", async () => {
  await bar("/");
  await flushPromises();
  expect(document.documentElement.dataset.theme).toBe("dark");
  await menu();
  await press(button("Light"));
  expect(document.documentElement.dataset.theme).toBe("light");
  expect(localStorage.getItem("vadegate-theme")).toBe("light");
});

it("who signs out has nothing left of what was read, and is where one signs in", async () => {
  const { orders } = await bar("/gates", "viewer", { "DELETE /session": () => undefined });
  await menu();
  await press(button("Sign out"));
  await flushPromises();
  expect(orders().map((one) => `${one.method} ${one.path}`)).toEqual(["DELETE /session"]);
  expect(shown!.router.currentRoute.value.name).toBe("sign-in");
});

it("a configuration that was not taken is told on every page, and a good one is not", async () => {
  service(answers("viewer"));
  const { default: FaultNote } = await import("./components/FaultNote.vue");
  shown = await showAt(FaultNote, "/");
  expect(shown.find("[role=alert]").exists()).toBe(false);
  shown.unmount();
  const fault = "vadegate.toml:4:1: unknown key `drops`\nvadegate.toml:9:1: <b>bold</b>";
  service(answers("viewer", { "GET /service": { timezone: "UTC", fault } }));
  shown = await showAt(FaultNote, "/");
  expect(shown.get("[role=alert] pre").text()).toBe(fault);
  expect(shown.find("b").exists()).toBe(false);
});
