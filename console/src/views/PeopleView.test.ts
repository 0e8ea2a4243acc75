// @vitest-environment jsdom
import { flushPromises } from "@vue/test-utils";
import { afterEach, expect, it } from "vitest";
import { Refusal, button, choose, service, showAt, signedIn } from "../testing/page";
import type { User } from "../support/types";
import PeopleView from "./PeopleView.vue";

const user = (name: string, of: Partial<User> = {}): User => ({
  name,
  role: "operator",
  sessions: 1,
  tokens: 0,
  used_at: "2026-01-31T06:00:00Z",
  made_at: "2026-01-01T06:00:00Z",
  made_by: "local",
  ...of,
});
const answers = (users: User[], more = {}) => ({
  "GET /session": signedIn({ role: "admin" }),
  "GET /users": users,
  "GET /tokens": [],
  "GET /sessions": [],
  ...more,
});

let shown: Awaited<ReturnType<typeof showAt>> | undefined;
afterEach(() => shown?.unmount());
const labelled = (label: string) => document.querySelector<HTMLButtonElement>(`[aria-label="${label}"]`)!;
const dialog = () => document.querySelector<HTMLElement>("[role=dialog]");

it("without users it says what then opens the service, and whom to add", async () => {
  service(answers([]));
  shown = await showAt(PeopleView, "/people");
  expect(shown.text()).toContain("There are no users.");
  expect(shown.text()).toContain("There are no tokens.");
  expect(button("Add").disabled).toBe(true);
});

it("a user is added with a role and a first password, and the fields are empty for the next", async () => {
  const { orders } = service(answers([user("mara")], { "POST /users": [user("mara"), user("ivo")] }));
  shown = await showAt(PeopleView, "/people");
  const [name, password] = [shown.get('input[autocomplete="off"]'), shown.get('input[type="password"]')];
  await name.setValue(" ivo ");
  expect(button("Add").disabled).toBe(true);
  await password.setValue("twelve letters at least");
  await shown.get("form").trigger("submit");
  await flushPromises();
  expect(orders()[0]?.body).toEqual({ name: "ivo", role: "operator", password: "twelve letters at least" });
  expect([name, password].map((one) => (one.element as HTMLInputElement).value)).toEqual(["", ""]);
});

it("what is refused of a new user stays in the fields, with why", async () => {
  service(answers([], { "POST /users": new Refusal(422, "the password has 5 characters; 12 are the least") }));
  shown = await showAt(PeopleView, "/people");
  await shown.get('input[autocomplete="off"]').setValue("ivo");
  await shown.get('input[type="password"]').setValue("short");
  await shown.get("form").trigger("submit");
  await flushPromises();
  expect(shown.text()).toContain("12 are the least");
  expect((shown.get('input[autocomplete="off"]').element as HTMLInputElement).value).toBe("ivo");
});

it("another role is set where it is chosen, for a name with odd characters too", async () => {
  const odd = "anna/van der Berg?";
  const path = `/users/${encodeURIComponent(odd)}/role`;
  const { orders } = service(answers([user(odd)], { [`POST ${path}`]: {} }));
  shown = await showAt(PeopleView, "/people");
  await choose(`Role of ${odd}`, "viewer");
  expect(orders().map(({ method, path, body }) => ({ method, path, body }))).toEqual([
    { method: "POST", path, body: { role: "viewer" } },
  ]);
});

it("nobody is removed without being asked about by name", async () => {
  const { orders } = service(answers([user("mara"), user("ivo")], { "DELETE /users/ivo": () => undefined }));
  shown = await showAt(PeopleView, "/people");
  labelled("Remove … ivo").click();
  await flushPromises();
  expect(dialog()?.textContent).toContain("Remove ivo?");
  expect(dialog()?.textContent).toContain("Their sessions and tokens end at once.");
  button("Leave it").click();
  await flushPromises();
  expect(orders()).toEqual([]);
  labelled("Remove … ivo").click();
  await flushPromises();
  dialog()!.querySelector<HTMLButtonElement>("[type=submit]")!.click();
  await flushPromises();
  expect(orders().map((one) => `${one.method} ${one.path}`)).toEqual(["DELETE /users/ivo"]);
});

it("another password is given in a dialog that stays open with why it was refused", async () => {
  let refuse = true;
  const { orders } = service(
    answers([user("mara")], {
      "POST /users/mara/password": () => (refuse ? new Refusal(422, "it is the name itself") : {}),
    }),
  );
  shown = await showAt(PeopleView, "/people");
  labelled("Password … of mara").click();
  await flushPromises();
  const field = () => dialog()!.querySelector<HTMLInputElement>("input")!;
  expect(button("Change it").disabled).toBe(true);
  field().value = "mara";
  field().dispatchEvent(new Event("input"));
  await flushPromises();
  button("Change it").click();
  await flushPromises();
  expect(dialog()?.textContent).toContain("it is the name itself");
  refuse = false;
  field().value = "another long password";
  field().dispatchEvent(new Event("input"));
  await flushPromises();
  button("Change it").click();
  await flushPromises();
  expect(dialog()).toBeNull();
  expect(orders().at(-1)?.body).toEqual({ password: "another long password" });
});
