// @vitest-environment jsdom
import { flushPromises } from "@vue/test-utils";
import { afterEach, expect, it } from "vitest";
import { Refusal, button, service, show } from "../testing/page";
import type { Token } from "../support/types";
import TokenTable from "./TokenTable.vue";

const token = (of: Partial<Token>): Token => ({
  id: 7,
  label: "gauge at Ullin Bay",
  role: "supplier",
  gates: [],
  owner: "ada",
  made_at: "2026-01-01T06:00:00Z",
  made_by: "ada",
  until: null,
  used_at: null,
  ...of,
});

let shown: Awaited<ReturnType<typeof show>> | undefined;
afterEach(() => shown?.unmount());

it("tells how long each is good, for which gates, and never more of it than its label", async () => {
  service({ "GET /service": { timezone: "UTC" } });
  const tokens = [
    token({}),
    token({ id: 8, label: "a\u202eb", gates: ["tide", "wave"], until: "2001-01-01T00:00:00Z" }),
    token({ id: 9, until: "2999-01-31T00:00:00Z", owner: null }),
  ];
  shown = await show(TokenTable, { tokens, owners: true });
  const cells = shown.findAll("tbody tr").map((row) => row.findAll("td").map((cell) => cell.text()));
  expect(cells[0]!.slice(0, 5)).toEqual(["gauge at Ullin Bay", "supplier", "all", "ada", "until it is revoked"]);
  expect(cells[1]![0]).not.toContain("\u202e");
  expect(cells[1]!.slice(2, 5)).toEqual(["tide, wave", "ada", "ended"]);
  expect(cells[2]!.slice(3, 5)).toEqual(["", "2999-01-31"]);
});

it("asks before it revokes one, and revokes just that", async () => {
  const { orders } = service({ "GET /service": { timezone: "UTC" }, "DELETE /tokens/8": () => undefined });
  shown = await show(TokenTable, { tokens: [token({}), token({ id: 8, label: "harbour" })] });
  await shown.findAll("tbody button")[1]!.trigger("click");
  await flushPromises();
  expect(document.body.textContent).toContain("Revoke the token harbour?");
  expect(orders()).toEqual([]);
  button("Revoke").click();
  await flushPromises();
  expect(orders()).toMatchObject([{ method: "DELETE", path: "/tokens/8" }]);
});

it("a refusal is told", async () => {
  service({ "GET /service": { timezone: "UTC" }, "DELETE /tokens/7": new Refusal(404, "there is no token 7") });
  shown = await show(TokenTable, { tokens: [token({})] });
  await shown.find("tbody button").trigger("click");
  await flushPromises();
  button("Revoke").click();
  await flushPromises();
  expect(document.querySelector("[role=alert]")?.textContent).toBe("there is no token 7");
});
