// @vitest-environment jsdom
import { flushPromises } from "@vue/test-utils";
import { expect, it, vi } from "vitest";
import { button, given, service, show, signedIn } from "../testing/page";
import type { Role } from "../support/types";
import PickList from "./PickList.vue";
import TokenForm from "./TokenForm.vue";

const answers = (role: Role) => ({
  "GET /session": signedIn({ role }),
  "GET /gates": [{ name: "tide" }, { name: "waves" }],
  "POST /tokens": { secret: "vadegate_x", token: {} },
});
const choices = (shown: Awaited<ReturnType<typeof show>>, at: number) =>
  (given(shown.findAllComponents(PickList)[at]!, "choices") as { value: string }[]).map((one) => one.value);

it("nobody makes a token that may more than they may", async () => {
  service(answers("operator"));
  const operator = await show(TokenForm, {});
  expect(choices(operator, 0)).toEqual(["viewer", "operator"]);
  operator.unmount();
  service(answers("viewer"));
  const viewer = await show(TokenForm, {});
  expect(choices(viewer, 0)).toEqual(["viewer"]);
  viewer.unmount();
  service(answers("admin"));
  const admin = await show(TokenForm, {});
  expect(choices(admin, 0)).toEqual(["viewer", "operator", "admin", "worker", "supplier"]);
  admin.unmount();
});

it("a token of a supplier is for one gate; the secret is shown once and can be copied", async () => {
  const { orders } = service(answers("admin"));
  const copied = vi.fn(async () => undefined);
  vi.stubGlobal("navigator", { clipboard: { writeText: copied } });
  const shown = await show(TokenForm, {});
  await shown.find("input").setValue(" night ferry ");
  shown.findAllComponents(PickList)[0]!.vm.$emit("update:modelValue", "supplier");
  await flushPromises();
  expect(button("Make it").disabled).toBe(true);
  expect(choices(shown, 1)).toEqual(["", "tide", "waves"]);
  shown.findAllComponents(PickList)[1]!.vm.$emit("update:modelValue", "tide");
  await flushPromises();
  await shown.find("form").trigger("submit");
  await flushPromises();
  expect(orders().map((one) => one.body)).toEqual([
    { label: "night ferry", role: "supplier", gates: ["tide"], lasting: "90d" },
  ]);
  expect(shown.text()).toContain("It is shown this once.");
  button("Copy").click();
  await flushPromises();
  expect(copied).toHaveBeenCalledWith("vadegate_x");
  expect(button("Copied")).toBeTruthy();
  shown.unmount();
  vi.unstubAllGlobals();
});
