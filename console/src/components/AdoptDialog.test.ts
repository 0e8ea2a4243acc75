// @vitest-environment jsdom
import { flushPromises } from "@vue/test-utils";
import { afterEach, expect, it } from "vitest";
import type { Asked } from "../testing/page";
import { Refusal, button, service, show, signedIn, type } from "../testing/page";
import AdoptDialog from "./AdoptDialog.vue";

let shown: Awaited<ReturnType<typeof show>> | undefined;
afterEach(() => shown?.unmount());
async function opened(gate: string) {
  shown = await show(AdoptDialog, { gate, modelValue: false });
  await shown.setProps({ modelValue: true });
  await flushPromises();
}
const body = (one: Asked) => one.body as { rehearse: boolean; pattern: string | null };

it("says which files it would be before anything is entered, and enters those", async () => {
  const { orders } = service({
    "GET /session": signedIn({}),
    "POST /gates/tide%20north/adopt": (one) => ({
      adopted: body(one).pattern === null ? ["a.csv", "b\u202e.csv"] : ["a.csv"],
      left: [{ path: "c.csv", because: "it is still being written" }],
    }),
  });
  await opened("tide north");
  expect(document.body.textContent).toContain("2 files.");
  expect(document.body.textContent).toContain("Not adopted: 1 file.");
  expect(document.body.textContent).not.toContain("\u202e");
  expect(document.body.textContent).toContain("c.csv: it is still being written");
  expect(button("Adopt").disabled).toBe(true);
  await type("Pattern", " a* ");
  expect(document.body.textContent).toContain("1 file.");
  await type("Why", "worked by hand until today");
  button("Adopt").click();
  await flushPromises();
  expect(orders().map((one) => one.body)).toMatchObject([
    { rehearse: true, pattern: null, why: "" },
    { rehearse: true, pattern: "a*", why: "" },
    { rehearse: false, pattern: "a*", why: "worked by hand until today", who: null },
  ]);
  expect(document.querySelector("[role=status]")?.textContent).toContain("1 file entered as already worked.");
});

it("nothing can be adopted where nothing fits, and a refusal is told", async () => {
  service({ "GET /session": signedIn({}), "POST /gates/tide/adopt": { adopted: [], left: [] } });
  await opened("tide");
  expect(document.body.textContent).toContain("0 files.");
  expect(document.querySelector('input[aria-label="Why"]')).toBeNull();
  expect(button("Adopt").disabled).toBe(true);
  shown?.unmount();
  document.body.innerHTML = "";
  service({ "GET /session": signedIn({}), "POST /gates/tide/adopt": new Refusal(503, "the gate is just passing") });
  await opened("tide");
  expect(document.querySelector("[role=alert]")?.textContent).toBe("the gate is just passing");
});
