// @vitest-environment jsdom
import { flushPromises } from "@vue/test-utils";
import { afterEach, expect, it } from "vitest";
import { Refusal, button, service, showAt, signedIn } from "../testing/page";
import type { Session, Token } from "../support/types";
import AccountView from "./AccountView.vue";

const token = (id: number, of: Partial<Token>): Token => ({
  id,
  label: `program ${id}`,
  owner: "nightwatch",
  role: "viewer",
  gates: [],
  made_at: "2026-01-01T06:00:00Z",
  made_by: "nightwatch",
  until: null,
  used_at: null,
  ...of,
});
const answers = (session: Partial<Session>, more = {}) => ({
  "GET /session": signedIn(session),
  "GET /sessions": [],
  "GET /tokens": [],
  ...more,
});

let shown: Awaited<ReturnType<typeof showAt>> | undefined;
afterEach(() => shown?.unmount());

/** Fills the three fields, and gives whether it can be sent. */
async function fill(present: string, next: string, again: string) {
  const fields = shown!.findAll("section[aria-labelledby=password] form input[type=password]");
  for (const [at, text] of [present, next, again].entries()) await fields[at]!.setValue(text);
  return !button("Change the password").disabled;
}

it("who came with the local token has no password, and is told where users are added", async () => {
  service(answers({ local: true, by_name: false, name: null, role: "admin" }));
  shown = await showAt(AccountView, "/account");
  expect(shown.text()).toContain("You are here with the token of the service's state folder");
  expect(shown.find("input[type=password]").exists()).toBe(false);
  expect(shown.get("a[href='/people']").text()).toBe("People");
});

it("of the tokens only one's own are shown", async () => {
  const tokens = [token(1, { label: "figures" }), token(2, { label: "another's", owner: "mara" })];
  service(answers({ role: "admin" }, { "GET /tokens": tokens }));
  shown = await showAt(AccountView, "/account");
  expect(shown.text()).toContain("figures");
  expect(shown.text()).not.toContain("another's");
  expect(shown.text()).toContain("with the role admin");
});

it("a password is changed by who knows the present one and writes the new one twice the same", async () => {
  const { orders } = service(answers({}, { "POST /users/nightwatch/password": {} }));
  shown = await showAt(AccountView, "/account");
  expect(await fill("", "a new long one", "a new long one")).toBe(false);
  expect(await fill("the old one", "a new long one", "another")).toBe(false);
  expect(shown.text()).toContain("The two are not the same.");
  expect(await fill("the old one", "a new long one", "a new long one")).toBe(true);
  expect(shown.text()).not.toContain("The two are not the same.");
  await shown.get("section[aria-labelledby=password] form").trigger("submit");
  await flushPromises();
  expect(orders()[0]?.body).toEqual({ password: "a new long one", present: "the old one" });
  expect(shown.text()).toContain("your other sessions have ended");
  const left = shown.findAll("section[aria-labelledby=password] form input[type=password]");
  expect(left.map((one) => (one.element as HTMLInputElement).value)).toEqual(["", "", ""]);
});

it("a password that is refused is still in the fields", async () => {
  const wrong = new Refusal(403, "that is not the present password");
  service(answers({}, { "POST /users/nightwatch/password": wrong }));
  shown = await showAt(AccountView, "/account");
  await fill("guessed", "a new long one", "a new long one");
  await shown.get("section[aria-labelledby=password] form").trigger("submit");
  await flushPromises();
  expect(shown.text()).toContain("that is not the present password");
  expect(shown.text()).not.toContain("It is changed");
  expect(button("Change the password").disabled).toBe(false);
});
