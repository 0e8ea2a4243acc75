// @vitest-environment jsdom
import { nextTick } from "vue";
import { expect, it } from "vitest";
import { useWho } from "./useWho";

it("who does things is remembered by the browser, and is the same everywhere", async () => {
  const who = useWho();
  expect(who.value).toBe("");
  who.value = "ada";
  await nextTick();
  expect(localStorage.getItem("vadegate.who")).toBe("ada");
  expect(useWho()).toBe(who);
});
