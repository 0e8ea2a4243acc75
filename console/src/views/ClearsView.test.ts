// @vitest-environment jsdom
import { flushPromises } from "@vue/test-utils";
import { afterEach, expect, it } from "vitest";
import { type Asked, button, choose, service, showAt, signedIn, type } from "../testing/page";
import type { ClearRule, Cleared, Removal, Role } from "../support/types";
import ClearsView from "./ClearsView.vue";

const rule = (name: string, of: Partial<ClearRule> = {}): ClearRule => ({
  name,
  folders: ["/scratch"],
  match: ["*.png"],
  leave: [],
  older: "14d",
  keep_newest: null,
  keep_per: null,
  into: null,
  runs: null,
  next_at: null,
  last_at: null,
  most: 10_000,
  ...of,
});
const cleared = (of: Partial<Cleared>): Cleared => ({
  rule: "scratch",
  folders: ["/scratch"],
  problems: [],
  removed: [],
  stays: [],
  ...of,
});
const file = (at: number) => ({
  path: `/scratch/plot_${at}.png`,
  bytes: 1024,
  modified: "2026-01-01T06:00:00Z",
  moved_to: null,
});
const removal = (id: number, of: Partial<Removal> = {}): Removal => ({
  id,
  path: `/scratch/old_${id}.png`,
  bytes: 2048,
  entry: null,
  modified: "2026-01-01T06:00:00Z",
  moved_to: null,
  removed_at: "2026-01-31T06:00:00Z",
  rule: "scratch",
  sha256: null,
  who: "mara",
  why: "room",
  ...of,
});
const answers = (rules: ClearRule[], role: Role, more = {}) => ({
  "GET /session": signedIn({ role }),
  "GET /clears": rules,
  "GET /removals": [],
  ...more,
});

let shown: Awaited<ReturnType<typeof showAt>> | undefined;
afterEach(() => shown?.unmount());

it("without rules and removals it says how there would be some", async () => {
  service(answers([], "admin"));
  shown = await showAt(ClearsView, "/clears");
  expect(shown.text()).toContain("No rule clears files.");
  expect(shown.text()).toContain("Nothing was removed.");
});

it("a rule is read in words", async () => {
  const said = rule("plots", {
    folders: ["/scratch", "/tmp/plots"],
    leave: ["keep_*"],
    keep_newest: 3,
    keep_per: "station",
    into: "/attic",
    runs: "daily at 05:00",
  });
  service(answers([said, rule("others", { keep_newest: 1 })], "viewer"));
  shown = await showAt(ClearsView, "/clears");
  const facts = shown.findAll("section[aria-labelledby^='clear-']").map((one) => one.get("dl").text());
  expect(facts[0]).toContain("/scratch, /tmp/plots");
  expect(facts[0]).toContain("the newest 3 of each station");
  expect(facts[0]).toContain("daily at 05:00");
  expect(facts[1]).toContain("the newest");
  expect(facts[1]).not.toContain("of each");
  expect(facts[1]).toContain("when a person asks");
  // Who looks decides nothing.
  expect(shown.text()).not.toContain("Clear now");
});

it("what would go is told before anybody says who and why; then just that is asked for", async () => {
  const would = cleared({
    removed: Array.from({ length: 250 }, (_, at) => file(at)),
    stays: [{ path: "/scratch/new.png", because: "it is 2 days old" }],
  });
  const rehearsed = ({ body }: Asked) => (body as { rehearse: boolean }).rehearse;
  const { orders } = service(
    answers([rule("scratch")], "admin", {
      "POST /clears": (asked: Asked) => (rehearsed(asked) ? would : cleared({ removed: [file(1), file(2)] })),
    }),
  );
  shown = await showAt(ClearsView, "/clears");
  expect(button("Clear now …").disabled).toBe(true);
  button("Rehearse").click();
  await flushPromises();
  const text = () => shown!.text().replaceAll(/\s+/g, " ");
  expect(text()).toContain("Would remove: 250 files, 250.0 KiB.");
  expect(text()).toContain("and 50 more");
  // The folder is known: what is below it is enough.
  expect(text()).toContain("plot_0.png");
  expect(text()).not.toContain("/scratch/plot_0.png");
  expect(text()).toContain("new.png stays: it is 2 days old");
  button("Clear now …").click();
  await flushPromises();
  const yes = () => document.querySelector<HTMLButtonElement>("[role=dialog] [type=submit]")!;
  expect(document.querySelector("[role=dialog]")?.textContent).toContain("Remove 250 files?");
  expect(yes().disabled).toBe(true);
  await type("Why", "the disk is full");
  yes().click();
  await flushPromises();
  expect(orders().map((one) => one.body)).toEqual([
    { name: "scratch", who: null, why: "", rehearse: true },
    { name: "scratch", who: null, why: "the disk is full", rehearse: false },
  ]);
  expect(text()).toContain("2 files removed.");
  // What was told is no more: it is looked at anew before anything else goes.
  expect(button("Clear now …").disabled).toBe(true);
});

it("when nothing would go nothing can be cleared, and what fails is told", async () => {
  const faulty = cleared({ problems: ["`/scratch/locked` cannot be read"] });
  service(answers([rule("scratch", { into: "/attic" })], "admin", { "POST /clears": faulty }));
  shown = await showAt(ClearsView, "/clears");
  button("Rehearse").click();
  await flushPromises();
  expect(shown.text()).toContain("Nothing would go.");
  expect(shown.text()).toContain("cannot be read");
  expect(button("Clear now …").disabled).toBe(true);
});

it("removals are read page by page, of one rule when one asks for it", async () => {
  const page = ({ query }: Asked) => {
    const from = Number(query.get("cursor") ?? 71);
    const count = query.get("rule") === "others" ? 0 : Math.min(50, from - 1);
    return Array.from({ length: count }, (_, at) => removal(from - 1 - at));
  };
  const { asked } = service(answers([rule("scratch"), rule("others")], "viewer", { "GET /removals": page }));
  shown = await showAt(ClearsView, "/clears");
  expect(shown.findAll("tbody tr")).toHaveLength(50);
  button("Show more").click();
  await flushPromises();
  expect(shown.text()).toContain("70 removals shown, newest first");
  expect(shown.text()).not.toContain("Show more");
  await choose("Rule", "others");
  await flushPromises();
  expect(asked.at(-1)?.query.get("rule")).toBe("others");
  expect(shown.text()).toContain("Nothing was removed.");
});

it("a removal tells who and why, where it was moved, and which entry it had", async () => {
  const removals = [removal(2, { moved_to: "/attic/old_2.png", entry: 17 }), removal(1, { removed_at: null })];
  service(answers([rule("scratch")], "viewer", { "GET /removals": removals }));
  shown = await showAt(ClearsView, "/clears");
  const [moved, under] = shown.findAll("tbody tr").map((one) => one.text().replaceAll(/\s+/g, " "));
  expect(moved).toContain("moved to /attic/old_2.png");
  expect(moved).toContain("mara: room");
  expect(shown.get("a[href='/entries/17']").text()).toBe("17");
  expect(under).toContain("under way");
});
