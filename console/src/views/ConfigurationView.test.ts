// @vitest-environment jsdom
import { flushPromises } from "@vue/test-utils";
import { afterEach, beforeEach, expect, it, vi } from "vitest";
import { cursorLine, putCursor, withoutMeasuring, write, written } from "../testing/editor";
import { type Asked, Refusal, button, choose, service, showAt, signedIn, type } from "../testing/page";
import type { ConfigFault, ConfigFile, TriedConfig } from "../support/types";
import ConfigurationView from "./ConfigurationView.vue";

const EDITOR = "The configuration";
const MAIN: ConfigFile = {
  path: "/coast/vadegate.toml",
  sha256: "aa",
  text: '[service]\n\n[gate.tide]\ndrop = "drops"\narchive = "leave"\n',
};
const MORE: ConfigFile = { path: "/coast/gates/wave.toml", sha256: "bb", text: '[gate.wave]\ndrop = "wave"\n' };
const KEYS = [
  { section: "[gate.NAME]", key: "drop", default: null, meaning: "the folder into which files come" },
  { section: "[gate.NAME]", key: "archive", default: null, meaning: "where worked files go" },
  { section: "[service]", key: "listen", default: "127.0.0.1:7411", meaning: "where it answers" },
];
const tried = (of: Partial<TriedConfig> = {}): TriedConfig => ({
  added: [],
  changed: [],
  removed: [],
  faults: [],
  files: [],
  left_count: 0,
  taken_count: 0,
  more: false,
  ...of,
});
const answers = (more = {}) => ({
  "GET /session": signedIn({ role: "admin" }),
  "GET /service": { timezone: "UTC" },
  "GET /configuration": [MAIN, MORE],
  "GET /configuration/keys": KEYS,
  "GET /configuration/changes": [],
  "POST /configuration/try": tried(),
  ...more,
});

let shown: Awaited<ReturnType<typeof showAt>> | undefined;
beforeEach(() => {
  withoutMeasuring();
  vi.spyOn(window, "scrollTo").mockImplementation(() => undefined);
  vi.useFakeTimers({ toFake: ["setTimeout", "clearTimeout"] });
});
afterEach(() => shown?.unmount());
const text = () => shown!.text().replaceAll(/\s+/g, " ");

/** Lets the typing rest. */
async function rest() {
  await vi.advanceTimersByTimeAsync(400);
  await flushPromises();
}
async function open(more = {}) {
  const asked = service(answers(more));
  shown = await showAt(ConfigurationView, "/configuration");
  await rest();
  return asked;
}
const save = () => button("Save …");

it("it is shown as it stands, and nothing can be saved or taken back before something is changed", async () => {
  await open();
  expect(written(EDITOR)).toBe(MAIN.text);
  expect(save().disabled).toBe(true);
  expect(button("Take back").disabled).toBe(true);
  expect(text()).toContain("It is right, and no gate would be otherwise");
});

it("what is typed is tried when the typing rests, once", async () => {
  const { orders } = await open();
  const before = orders().length;
  await write(EDITOR, `${MAIN.text}#`);
  await write(EDITOR, `${MAIN.text}# a note`);
  expect(save().disabled).toBe(true);
  await rest();
  const tries = orders().slice(before);
  expect(tries.map((one) => one.body)).toEqual([{ path: MAIN.path, text: `${MAIN.text}# a note` }]);
  expect(save().disabled).toBe(false);
  button("Take back").click();
  await rest();
  expect(written(EDITOR)).toBe(MAIN.text);
  expect(save().disabled).toBe(true);
});

it("what is wrong cannot be saved, and each fault of the file leads to its line", async () => {
  const fault = (file: string, line: number, message: string): ConfigFault => ({ file, line, column: 1, message });
  const faults = [fault(MAIN.path, 4, "`drop` is no folder"), fault(MORE.path, 2, "`wave` is named twice")];
  await open({ "POST /configuration/try": tried({ faults }) });
  await write(EDITOR, `${MAIN.text}#`);
  await rest();
  expect(save().disabled).toBe(true);
  expect(text()).toContain("2 faults");
  expect(text()).toContain("wave.toml, line 2 `wave` is named twice".replace("2 `", "2`"));
  button("line 4").click();
  await flushPromises();
  expect(cursorLine(EDITOR)).toBe(4);
});

it("what would be otherwise is told in gates and files", async () => {
  const change = { added: ["garrow"], changed: ["tide"], removed: ["old"], taken_count: 3, left_count: 1 };
  const files = [
    { gate: "tide", path: "/drop/tide/a.csv", taken: true, because: null },
    { gate: "tide", path: "/drop/tide/b.txt", taken: false, because: "no pattern takes it" },
  ];
  await open({ "POST /configuration/try": tried({ ...change, files, more: true }) });
  expect(text()).toContain("garrow new");
  expect(text()).toContain("tide with other rules");
  expect(text()).toContain("old no more");
  expect(text()).toContain("3 would be taken that are not, and 1 not any more that are, of the first");
  expect(text()).toContain("no pattern takes it");
});

it("it is saved over what was opened, with who and why, and then there is nothing to save", async () => {
  const { orders } = await open({ "PUT /configuration": { sha256: "cc", taken: {} } });
  const changed = MAIN.text.replace("leave", "delete");
  await write(EDITOR, changed);
  await rest();
  save().click();
  await flushPromises();
  const dialog = () => document.querySelector<HTMLElement>("[role=dialog]");
  expect(dialog()?.textContent).toContain("It is in force at once");
  expect(button("Save").disabled).toBe(true);
  await type("Why", "room");
  button("Save").click();
  await flushPromises();
  const order = orders().find((one) => one.method === "PUT")?.body;
  expect(order).toEqual({ path: MAIN.path, text: changed, was: "aa", why: "room", who: null });
  expect(dialog()).toBeNull();
  expect(save().disabled).toBe(true);
});

it("what was refused stays open with why", async () => {
  await open({ "PUT /configuration": new Refusal(412, "the file was changed meanwhile") });
  await write(EDITOR, `${MAIN.text}#`);
  await rest();
  save().click();
  await flushPromises();
  await type("Why", "room");
  button("Save").click();
  await flushPromises();
  expect(document.querySelector("[role=dialog]")?.textContent).toContain("the file was changed meanwhile");
});

it("when somebody else saves, what is unchanged follows, and what is changed is not lost", async () => {
  let now = MAIN;
  await open({ "GET /configuration": () => [now] });
  now = { ...MAIN, sha256: "ab", text: `${MAIN.text}# theirs` };
  await shown!.queryClient.invalidateQueries({ queryKey: ["configuration"] });
  await flushPromises();
  expect(written(EDITOR)).toBe(now.text);
  await write(EDITOR, `${now.text}# ours`);
  now = { ...MAIN, sha256: "ac", text: `${MAIN.text}# theirs again` };
  await shown!.queryClient.invalidateQueries({ queryKey: ["configuration"] });
  await flushPromises();
  expect(written(EDITOR)).toContain("# ours");
  expect(text()).toContain("The file was changed by somebody else meanwhile.");
  button("look at the file anew").click();
  await flushPromises();
  expect(written(EDITOR)).toBe(now.text);
  expect(text()).not.toContain("by somebody else");
});

it("another file of it can be chosen", async () => {
  await open();
  await choose("File", "wave.toml");
  await rest();
  expect(written(EDITOR)).toBe(MORE.text);
  expect(text()).toContain(MORE.path);
});

it("the key at the cursor is explained, and the keys of its section are told", async () => {
  await open();
  await putCursor(EDITOR, "archi");
  expect(text()).toContain("where worked files go.");
  await putCursor(EDITOR, "[service]\n");
  expect(text()).toContain("Keys here: listen");
});

it("an earlier text is put into the editor, and saves nothing by that", async () => {
  const change = { id: 7, at: "2026-01-31T06:00:00Z", file: MAIN.path, who: "mara", why: "room", text: null };
  const { orders } = await open({
    "GET /configuration/changes": [change],
    "GET /configuration/changes/7": { ...change, text: "# as it was\n" },
  });
  expect(text()).toContain("room mara");
  button("put into the editor").click();
  await rest();
  expect(written(EDITOR)).toBe("# as it was\n");
  expect(orders().some((one: Asked) => one.method === "PUT")).toBe(false);
  expect(save().disabled).toBe(false);
});

it("the page is not left with something unsaved without a question", async () => {
  await open();
  const confirm = vi.spyOn(window, "confirm").mockReturnValue(false);
  const closes = () => window.dispatchEvent(new Event("beforeunload", { cancelable: true }));
  expect(closes()).toBe(true);
  await write(EDITOR, `${MAIN.text}#`);
  expect(closes()).toBe(false);
  await shown!.router.push("/gates");
  expect(confirm).toHaveBeenCalledOnce();
  expect(shown!.router.currentRoute.value.name).toBe("configuration");
  confirm.mockReturnValue(true);
  await shown!.router.push("/gates");
  expect(shown!.router.currentRoute.value.name).toBe("gates");
});
