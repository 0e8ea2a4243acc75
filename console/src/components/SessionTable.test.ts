// @vitest-environment jsdom
import { flushPromises } from "@vue/test-utils";
import { expect, it } from "vitest";
import { Refusal, service, show } from "../testing/page";
import type { SessionView } from "../support/types";
import SessionTable from "./SessionTable.vue";

const session = (of: Partial<SessionView>): SessionView => ({
  id: 1,
  user: "ada",
  address: "127.0.0.1",
  program: "Mozilla/5.0 (X11; Linux x86_64) AppleWebKit/537.36 Chrome/150.0.0.0 Safari/537.36",
  begun_at: "2026-01-31T06:00:00Z",
  used_at: "2026-01-31T06:10:00Z",
  until: "2026-02-28T06:00:00Z",
  own: false,
  ...of,
});

it("one's own session is named and cannot be ended from here; others can", async () => {
  const { orders } = service({ "GET /service": { timezone: "UTC" }, "DELETE /sessions/2": () => undefined });
  const shown = await show(SessionTable, {
    sessions: [session({ own: true }), session({ id: 2, user: null, program: "curl/8" })],
    users: true,
  });
  const rows = shown.findAll("tbody tr");
  expect(rows[0]!.text()).toContain("Chrome 150, X11");
  expect(rows[0]!.text()).toContain("(this one)");
  expect(rows[0]!.find("button").exists()).toBe(false);
  expect(rows[1]!.text()).toContain("local token");
  expect(rows[1]!.text()).toContain("curl/8");
  await rows[1]!.find("button").trigger("click");
  await flushPromises();
  expect(orders()).toMatchObject([{ method: "DELETE", path: "/sessions/2" }]);
  shown.unmount();
});

it("a name with control characters is shown and moves nothing; a refusal is told", async () => {
  service({ "GET /service": { timezone: "UTC" }, "DELETE /sessions/1": new Refusal(403, "for admins") });
  const shown = await show(SessionTable, { sessions: [session({ user: "a\u202eb\n" })], users: true });
  expect(shown.find("tbody td").text()).not.toContain("\u202e");
  await shown.find("button").trigger("click");
  await flushPromises();
  expect(shown.find("[role=alert]").text()).toBe("for admins");
  shown.unmount();
});
