import { expect, it, vi } from "vitest";
import { handIn, pathOf } from "./handIn";

/** A door that keeps what comes, and fails when it is told to. */
function door(fail: (call: number) => "before" | "after" | null) {
  const kept: Uint8Array[] = [];
  const calls: string[] = [];
  const length = () => kept.reduce((sum, piece) => sum + piece.length, 0);
  const fetched = async (url: string, init: RequestInit) => {
    calls.push(`${init.method} ${url}`);
    const told = { Location: "/api/v1/uploads/abc", "Upload-Offset": String(length()) };
    if (init.method === "PUT") return new Response(null, { status: 201, headers: told });
    if (init.method === "HEAD") return new Response(null, { status: 204, headers: told });
    const how = fail(calls.length);
    if (how === "before") throw new TypeError("gone");
    const headers = init.headers as Record<string, string>;
    expect(headers["Upload-Offset"]).toBe(String(length()));
    kept.push(new Uint8Array(await (init.body as Blob).arrayBuffer()));
    if (how === "after") throw new TypeError("gone");
    const last = headers["Upload-Complete"] === "?1";
    const answer = JSON.stringify({ entry: 7, bytes: length(), state: "ready" });
    return new Response(last ? answer : null, {
      status: last ? 201 : 204,
      headers: { "Upload-Offset": String(length()) },
    });
  };
  vi.stubGlobal("fetch", fetched);
  return { kept, calls, length };
}

it("sends a small file in one piece, and a large one in several", async () => {
  const small = door(() => null);
  const done = await handIn("tide", "ullin/a b(1).csv", new Blob(["one"]), { who: "mara" });
  expect(done.entry).toBe(7);
  expect(small.calls).toEqual([
    "PUT /api/v1/gates/tide/drop/ullin/a%20b%281%29.csv?who=mara",
    "PATCH /api/v1/uploads/abc",
  ]);
  const large = door(() => null);
  const told: number[] = [];
  const bytes = new Blob([new Uint8Array(20 * 1024 * 1024)]);
  await handIn("tide", "a.bin", bytes, { who: null, progress: (at) => told.push(at) });
  expect(large.length()).toBe(bytes.size);
  expect(told).toEqual([0, 8 * 1024 * 1024, 16 * 1024 * 1024]);
});

it("goes on where it was cut off, whether the piece had come or not", async () => {
  for (const how of ["before", "after"] as const) {
    const there = door((call) => (call === 2 ? how : null));
    const bytes = new Blob([new Uint8Array(9 * 1024 * 1024)]);
    await handIn("tide", "a.bin", bytes, { who: null, pause: 1 });
    expect(there.length()).toBe(bytes.size);
  }
});

it("gives up when it is refused", async () => {
  vi.stubGlobal("fetch", async () => new Response(JSON.stringify({ detail: "it lies there" }), { status: 409 }));
  await expect(handIn("tide", "a", new Blob(["x"]), { who: null })).rejects.toThrow("it lies there");
  expect(pathOf("ü/x")).toBe("%C3%BC/x");
});
