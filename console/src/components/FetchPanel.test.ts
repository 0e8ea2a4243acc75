// @vitest-environment jsdom
import { flushPromises } from "@vue/test-utils";
import { afterEach, expect, it } from "vitest";
import { Refusal, button, service, show, signedIn } from "../testing/page";
import type { Fetch, PlaceFolder } from "../support/types";
import FetchPanel from "./FetchPanel.vue";

const fetched = (of: Partial<Fetch>): Fetch => ({
  place: "supplier",
  folder: "outgoing/<station>/*.csv",
  after: "left",
  doing: null,
  looked_at: "2026-01-31T06:00:00Z",
  next_look: null,
  waiting: 3,
  ...of,
});
const listed = (of: Partial<PlaceFolder>): PlaceFolder => ({
  at: "sftp://files.sound.example",
  place: "supplier",
  folder: "outgoing",
  bytes: 2_000,
  count: 1_002,
  files: [
    { name: "ullin\u202e", path: "outgoing/ullin", kind: "folder", bytes: 0, modified: null },
    { name: "a.csv", path: "outgoing/a.csv", kind: "file", bytes: 2_000, modified: "2026-01-31T05:00:00Z" },
    { name: "pipe", path: "outgoing/pipe", kind: "other", bytes: 0, modified: null },
  ],
  ...of,
});

let shown: Awaited<ReturnType<typeof show>> | undefined;
afterEach(() => shown?.unmount());

it("the place is asked only when somebody looks, in the folder that is fixed", async () => {
  const { asked } = service({
    "GET /service": { timezone: "UTC" },
    "GET /session": signedIn({}),
    "GET /places/supplier/files": (one) =>
      one.query.get("folder") === "outgoing" ? listed({}) : listed({ files: [], count: 0, bytes: 0 }),
  });
  const looks = () => asked.filter((one) => one.path.endsWith("/files")).map((one) => one.query.get("folder"));
  shown = await show(FetchPanel, { fetch: fetched({}), gate: "tide" });
  expect(document.body.textContent).toContain("it stays there");
  expect(looks()).toEqual([]);
  button("Look at what lies there").click();
  await flushPromises();
  expect(looks()).toEqual(["outgoing"]);
  const rows = [...document.querySelectorAll("ul li")].map((row) => row.textContent);
  expect(rows[0]).not.toContain("\u202e");
  expect(rows[2]).toContain("no file");
  expect(rows[3]).toContain("and 999 more");
  document.querySelector<HTMLButtonElement>("ul li button")!.click();
  await flushPromises();
  expect(looks()).toEqual(["outgoing", "outgoing/ullin"]);
  expect(document.body.textContent).toContain("The folder is empty.");
  button("one up").click();
  await flushPromises();
  expect(document.body.textContent).toContain("a.csv");
});

it("a place that is away says so; a viewer sees how it stands and asks nothing", async () => {
  service({
    "GET /service": { timezone: "UTC" },
    "GET /session": signedIn({}),
    "GET /places/supplier/files": new Refusal(502, "it did not answer in time"),
  });
  shown = await show(FetchPanel, { fetch: fetched({ folder: "", after: "deleted" }), gate: "tide" });
  expect(document.body.textContent).toContain("that of its address");
  expect(document.body.textContent).toContain("deleted there");
  button("Look at what lies there").click();
  await flushPromises();
  expect(document.querySelector("[role=alert]")?.textContent).toBe("it did not answer in time");
  shown.unmount();
  document.body.innerHTML = "";
  service({ "GET /service": { timezone: "UTC" }, "GET /session": signedIn({ role: "viewer" }) });
  shown = await show(FetchPanel, { fetch: fetched({}), gate: "tide" });
  expect(document.querySelector("button")).toBeNull();
});
