// @vitest-environment jsdom
import { flushPromises } from "@vue/test-utils";
import { afterEach, beforeEach, expect, it, vi } from "vitest";
import { Refusal, button, service, showAt, signedIn } from "../testing/page";
import SignInView from "./SignInView.vue";

const nobody = (of: object) => signedIn({ signed_in: false, name: null, role: null, ...of });

let shown: Awaited<ReturnType<typeof showAt>> | undefined;
beforeEach(() => vi.spyOn(window, "scrollTo").mockImplementation(() => undefined));
afterEach(() => shown?.unmount());

async function fill(id: string, text: string) {
  await shown!.get(`#${id}`).setValue(text);
}

it("where there are users it asks for name and password, and goes where one wanted to be", async () => {
  const { orders } = service({ "GET /session": nobody({ by_name: true }), "POST /session": signedIn({}) });
  shown = await showAt(SignInView, "/sign-in?next=/held?entry=4");
  expect(shown.find("#token").exists()).toBe(false);
  expect(button("Sign in").disabled).toBe(true);
  await fill("name", "  nightwatch ");
  expect(button("Sign in").disabled).toBe(true);
  await fill("password", " a long night's watch ");
  await shown.get("form").trigger("submit");
  await flushPromises();
  // A password is taken as it is, a name without what surrounds it.
  expect(orders()[0]?.body).toEqual({ name: "nightwatch", password: " a long night's watch " });
  expect(shown.router.currentRoute.value.fullPath).toBe("/held?entry=4");
});

it("where there are none it asks for the token of the state folder", async () => {
  const { orders } = service({ "GET /session": nobody({ by_name: false }), "POST /session": signedIn({}) });
  shown = await showAt(SignInView, "/sign-in");
  expect(shown.find("#name").exists()).toBe(false);
  expect(shown.text()).toContain("only its owner can read");
  await fill("token", " t0ken\n");
  await shown.get("form").trigger("submit");
  await flushPromises();
  expect(orders()[0]?.body).toEqual({ token: "t0ken" });
  expect(shown.router.currentRoute.value.fullPath).toBe("/");
});

it.each(["//elsewhere.example/", "https://elsewhere.example", "javascript:alert(1)", ""])(
  "leads nowhere outside the console: %s",
  async (next) => {
    service({ "GET /session": nobody({ by_name: false }), "POST /session": signedIn({}) });
    shown = await showAt(SignInView, `/sign-in?next=${encodeURIComponent(next)}`);
    await fill("token", "t0ken");
    await shown.get("form").trigger("submit");
    await flushPromises();
    expect(shown.router.currentRoute.value.fullPath).toBe("/");
  },
);

it("a token behind the # of a link signs in at once, and does not stay in the address", async () => {
  const { orders } = service({ "GET /session": nobody({ by_name: true }), "POST /session": signedIn({}) });
  shown = await showAt(SignInView, "/sign-in?next=/gates#s3cret");
  await flushPromises();
  expect(orders().map((one) => one.body)).toEqual([{ token: "s3cret" }]);
  expect(shown.router.currentRoute.value.fullPath).toBe("/gates");
});

it("what is refused is said, and goes when one tries the other way", async () => {
  service({
    "GET /session": nobody({ by_name: true }),
    "POST /session": new Refusal(401, "name and password do not belong together"),
  });
  shown = await showAt(SignInView, "/sign-in");
  await fill("name", "nightwatch");
  await fill("password", "wrong");
  await shown.get("form").trigger("submit");
  await flushPromises();
  expect(shown.text()).toContain("name and password do not belong together");
  expect(shown.router.currentRoute.value.name).toBe("sign-in");
  button("Sign in with the local token").click();
  await flushPromises();
  expect(shown.text()).not.toContain("do not belong together");
  expect(shown.find("#token").exists()).toBe(true);
  button("Sign in by name and password").click();
  await flushPromises();
  expect(shown.find("#name").exists()).toBe(true);
});
