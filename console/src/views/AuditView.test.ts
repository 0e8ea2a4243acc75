// @vitest-environment jsdom
import { flushPromises } from "@vue/test-utils";
import { afterEach, expect, it } from "vitest";
import { type Asked, Refusal, button, service, showAt } from "../testing/page";
import type { AuditLine, AuditProof } from "../support/types";
import AuditView from "./AuditView.vue";

const line = (id: number, of: Partial<AuditLine> = {}): AuditLine => ({
  id,
  at: "2026-01-31T06:00:00Z",
  who: "mara",
  address: "127.0.0.1",
  what: "sign-in",
  status: 200,
  about: "",
  why: "",
  sum: "c0ffee",
  ...of,
});
const proof = (of: Partial<AuditProof>): AuditProof => ({
  faults: [],
  first: 1,
  last: 250,
  known: null,
  lines: 250,
  sum: "c0ffee",
  ...of,
});
const zone = { "GET /service": { timezone: "Europe/Oslo" } };

let shown: Awaited<ReturnType<typeof showAt>> | undefined;
afterEach(() => shown?.unmount());

it("lines are read page by page, each with when it was, in the zone of the service", async () => {
  const page = ({ query }: Asked) => {
    const from = Number(query.get("cursor") ?? 251);
    const count = Math.min(Number(query.get("limit")), from - 1);
    return Array.from({ length: count }, (_, at) => line(from - 1 - at));
  };
  const { asked } = service({ ...zone, "GET /audit": page });
  shown = await showAt(AuditView, "/audit");
  expect(shown.findAll("tbody tr")).toHaveLength(100);
  expect(shown.get("tbody tr").text()).toContain("07:00");
  for (const lines of [200, 250]) {
    button("Show more").click();
    await flushPromises();
    expect(shown.findAll("tbody tr")).toHaveLength(lines);
  }
  expect(shown.text()).toContain("250 lines shown, newest first");
  expect(shown.text()).not.toContain("Show more");
  const numbers = shown.findAll("tbody tr td:first-child").map((one) => Number(one.text()));
  expect(numbers).toEqual(Array.from({ length: 250 }, (_, at) => 250 - at));
  const cursors = asked.filter((one) => one.path === "/audit").map((one) => one.query.get("cursor"));
  expect(cursors).toEqual([null, "151", "51"]);
});

it("what is asked for is asked of the service, without what surrounds it", async () => {
  const { asked } = service({ ...zone, "GET /audit": [] });
  shown = await showAt(AuditView, "/audit");
  expect(shown.text()).toContain("Nothing in the log fits.");
  const [text, who, what] = shown.findAll("form input:not([type=checkbox])");
  await text!.setValue(" ullin ");
  await who!.setValue("mara");
  await what!.setValue("sign-in");
  await shown.get("input[type=checkbox]").setValue(true);
  await flushPromises();
  const last = asked.at(-1)!.query;
  expect(Object.fromEntries(last)).toEqual({
    text: "ullin",
    who: "mara",
    what: "sign-in",
    failed: "true",
    limit: "100",
  });
});

it("what was refused stands out, and hostile words do nothing", async () => {
  const hostile = '<img src=x onerror="alert(1)">\u001b[31m\nend';
  service({ ...zone, "GET /audit": [line(2, { status: 403, about: hostile, why: "as agreed" }), line(1)] });
  shown = await showAt(AuditView, "/audit");
  const [refused, good] = shown.findAll("tbody tr");
  expect(refused!.find("td.text-danger").text()).toBe("403");
  expect(good!.find("td.text-danger").exists()).toBe(false);
  expect(shown.find("img").exists()).toBe(false);
  for (const odd of ["\u001b", "\n"]) expect(refused!.text()).not.toContain(odd);
  expect(refused!.text()).toContain("as agreed");
});

it("the whole log is gone through when one asks, and what is wrong with it is told", async () => {
  const answers = [
    proof({}),
    proof({ faults: Array.from({ length: 30 }, (_, at) => `line ${at + 7} is not what was written`) }),
  ];
  service({ ...zone, "GET /audit": [line(1)], "GET /audit/proof": () => answers.shift() });
  shown = await showAt(AuditView, "/audit");
  button("Verify").click();
  await flushPromises();
  expect(shown.get("[role=status]").text()).toContain("250 lines: all as they were written.");
  expect(shown.get("[role=status]").text()).toContain("Sum of line 250: c0ffee");
  button("Verify").click();
  await flushPromises();
  const told = shown.get("[role=status]");
  expect(told.text()).toContain("line 7 is not what was written");
  expect(told.text()).not.toContain("all as they were written");
  expect(told.findAll("p.font-medium")).toHaveLength(20);
});

it("who may not look is told so", async () => {
  service({ ...zone, "GET /audit": new Refusal(403, "the audit log is for admins") });
  shown = await showAt(AuditView, "/audit");
  expect(shown.text()).toContain("the audit log is for admins");
});
