import { describe, expect, it, vi } from "vitest";
import { ApiError, get, post, withQuery } from "./api";

function answering(status: number, body: string) {
  const answer = new Response(status === 204 ? null : body, { status });
  return vi.stubGlobal(
    "fetch",
    vi.fn(async () => answer),
  );
}

describe("api", () => {
  it("leaves absent values out of the query", () => {
    expect(withQuery("/entries", { gate: "tide", text: "", state: undefined, limit: 5 })).toBe(
      "/entries?gate=tide&limit=5",
    );
    expect(withQuery("/gates", {})).toBe("/gates");
  });

  it("gives the answer, or nothing for an empty one", async () => {
    answering(200, '[{"name":"tide"}]');
    expect(await get("/gates")).toEqual([{ name: "tide" }]);
    answering(204, "");
    expect(await post("/session", { token: "x" })).toBeUndefined();
  });

  it("turns a problem into an error with its words and status", async () => {
    answering(404, '{"status":404,"detail":"there is no gate `tid`"}');
    const error = await get("/gates/tid").catch((thrown: unknown) => thrown);
    expect(error).toBeInstanceOf(ApiError);
    expect(error).toMatchObject({ status: 404, message: "there is no gate `tid`" });
    answering(502, "<html>");
    await expect(get("/gates")).rejects.toThrow("The service answered 502.");
  });

  it("says when nobody answers", async () => {
    vi.stubGlobal("fetch", async () => Promise.reject(new TypeError("refused")));
    await expect(get("/gates")).rejects.toThrow("does not answer");
  });
});
