// @vitest-environment jsdom
import { flushPromises } from "@vue/test-utils";
import { afterEach, expect, it, vi } from "vitest";
import { handedIn } from "../testing/entries";
import { button, service, show, signedIn } from "../testing/page";
import type { HandedIn, Session } from "../support/types";
import HandIn from "./HandIn.vue";

/** A door that answers to each name with what became of it, or with why it is refused. */
function door(session: Partial<Session>, became: Record<string, HandedIn | string>) {
  service({ "GET /session": signedIn(session) });
  const others = globalThis.fetch;
  const begun: string[] = [];
  vi.stubGlobal("fetch", async (url: string, init: RequestInit) => {
    if (!/\/drop\/|uploads/.test(url)) return others(url, init);
    if (init.method === "PUT") begun.push(url);
    const name = decodeURIComponent(begun.at(-1)!.split("/drop/")[1]!.split("?")[0]!);
    const what = became[name];
    if (typeof what === "string") return new Response(JSON.stringify({ detail: what }), { status: 422 });
    const headers = { Location: `/api/v1/uploads/${begun.length}`, "Upload-Offset": "0" };
    return new Response(init.method === "PATCH" ? JSON.stringify(what) : null, { status: 201, headers });
  });
  return begun;
}

let shown: Awaited<ReturnType<typeof show>> | undefined;
afterEach(() => shown?.unmount());

const file = (name: string) => new File(["a,b\n"], name);
async function drop(...files: File[]) {
  const event = new Event("drop", { bubbles: true, cancelable: true });
  Object.defineProperty(event, "dataTransfer", { value: { files } });
  shown!.get("section").element.dispatchEvent(event);
  await flushPromises();
  return event;
}
const lines = () => shown!.findAll("li").map((one) => one.text().replaceAll(/\s+/g, " "));

it("each file that is dropped tells what became of it, and they are put away once all are over", async () => {
  const begun = door(
    {},
    {
      "one.csv": handedIn({ entry: 21, state: "ready" }),
      "two.csv": handedIn({ entry: 22, state: "repeat", repeat_of: 7 }),
      "three.txt": "no pattern takes `three.txt`; the closest is *.csv",
    },
  );
  shown = await show(HandIn, { gate: "tide" });
  expect(shown.text()).toContain("nightwatch");
  // The browser would else show the file in the place of the console.
  expect((await drop(file("one.csv"), file("two.csv"), file("three.txt"))).defaultPrevented).toBe(true);
  await vi.waitFor(() => expect(shown!.find("progress").exists()).toBe(false));
  const [one, two, three] = lines();
  expect(one).toContain("entry 21");
  expect(two).toContain("the same as entry 7");
  expect(three).toContain("the closest is *.csv");
  // One after the other, in the order in which they came.
  expect(begun.map((url) => url.split("/drop/")[1])).toEqual(["one.csv", "two.csv", "three.txt"]);
  button("Put these away").click();
  await flushPromises();
  expect(lines()).toEqual([]);
});

it("who came with the local token says their name first, and it is sent", async () => {
  const begun = door({ local: true, name: null, role: "admin" }, { "one.csv": handedIn() });
  shown = await show(HandIn, { gate: "tide" });
  const name = shown.get("[aria-label='Who hands them in']");
  await name.setValue("");
  expect(button("Choose files …").disabled).toBe(true);
  await drop(file("one.csv"));
  expect(begun).toEqual([]);
  await name.setValue("mara of the office");
  await drop(file("one.csv"));
  await vi.waitFor(() => expect(lines()[0]).toContain("entry 18"));
  expect(begun[0]).toContain("?who=mara+of+the+office");
});

it("that something can be dropped is shown while it is above, and not any longer", async () => {
  door({}, {});
  shown = await show(HandIn, { gate: "tide" });
  await shown.get("section").trigger("dragover");
  expect(shown.get("section").classes()).toContain("border-accent");
  await shown.get("section").trigger("dragleave");
  expect(shown.get("section").classes()).not.toContain("border-accent");
});

it("an empty file is there at once, and hostile names do nothing", async () => {
  const name = "<img src=x>\u001b.csv";
  door({}, { [name]: handedIn({ state: "held", reason: "it is empty (0 bytes)" }) });
  shown = await show(HandIn, { gate: "tide" });
  await drop(new File([], name));
  await vi.waitFor(() => expect(lines()[0]).toContain("it is empty (0 bytes)"));
  expect(shown.find("img").exists()).toBe(false);
  expect(lines()[0]).not.toContain("\u001b");
});
