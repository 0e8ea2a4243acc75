// @vitest-environment jsdom
import { mount } from "@vue/test-utils";
import { expect, it } from "vitest";
import StateTag from "./StateTag.vue";

it("the word of a state is told, and its tone only repeats it", () => {
  const held = mount(StateTag, { props: { word: "held" } });
  expect(held.text()).toBe("held");
  expect(held.classes()).toContain("text-danger");
  const unheardOf = mount(StateTag, { props: { word: "passed over" } });
  expect(unheardOf.text()).toBe("passed over");
  expect(unheardOf.classes()).toContain("text-quiet");
});
