// @vitest-environment jsdom
import { nextTick } from "vue";
import { beforeEach, expect, it, vi } from "vitest";

beforeEach(() => {
  localStorage.clear();
  vi.resetModules();
});

it("who does things is remembered by the browser, and is the same everywhere", async () => {
  const { useWho } = await import("./useWho");
  const who = useWho();
  expect(who.value).toBe("");
  who.value = "ada";
  await nextTick();
  expect(localStorage.getItem("vadegate.who")).toBe("ada");
  expect(useWho()).toBe(who);
});

it("it is known again when the page is opened anew", async () => {
  localStorage.setItem("vadegate.who", "mara");
  const { useWho } = await import("./useWho");
  expect(useWho().value).toBe("mara");
});
