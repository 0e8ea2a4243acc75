import { describe, expect, it } from "vitest";
import { about, ago, clock, count, counted, later, moment, size, until, visible } from "./format";

describe("format", () => {
  it("shows what is not seen", () => {
    expect(visible("Ullin Bay/älv.csv")).toBe("Ullin Bay/älv.csv");
    expect(visible("a\nb\u001b[31m\u009b\u202ec\t")).toBe("a\\nb\\x1b[31m\\x9b\\u{202e}c\\t");
  });

  it.each([
    [0, "0 B"],
    [1023, "1023 B"],
    [1024, "1.0 KiB"],
    [4200, "4.1 KiB"],
    [5 * 1024 ** 4, "5.0 TiB"],
  ])("writes %i bytes as %s", (bytes, text) => expect(size(bytes)).toBe(text));

  it("parts thousands and gives a noun its number", () => {
    expect(count(1234567)).toBe("1,234,567");
    expect(counted(1, "file")).toBe("1 file");
    expect(counted(2, "entry", "entries")).toBe("2 entries");
  });

  it("tells how long ago in the largest unit", () => {
    const now = Date.parse("2026-03-02T00:00:00Z");
    expect(ago(null, now)).toBe("never");
    expect(ago("2026-03-01T23:59:48Z", now)).toBe("12 s ago");
    expect(ago("2026-03-01T22:00:00Z", now)).toBe("2 h ago");
    expect(ago("2026-02-20T00:00:00Z", now)).toBe("10 d ago");
    expect(ago("2026-03-02T00:00:05Z", now)).toBe("0 s ago");
  });

  it("tells how much later something was", () => {
    expect(later("2026-03-01T06:00:00Z", "2026-03-01T06:00:07.04Z")).toBe("+7.0 s");
    expect(later("2026-03-01T06:00:00Z", "2026-03-01T08:10:00Z")).toBe("+2 h");
    expect(later("2026-03-01T06:00:01Z", "2026-03-01T06:00:00Z")).toBe("+0.0 s");
  });

  it("writes times in the service's zone", () => {
    expect(moment("2026-03-01T06:05:09.123Z", "Etc/UTC")).toBe("2026-03-01 06:05:09");
    expect(clock("2026-03-01T06:05:09Z", "Etc/GMT-2")).toBe("08:05");
  });
});

it("a time to come is told in its largest unit", () => {
  const now = Date.parse("2026-01-31T06:00:00Z");
  expect(until("2026-01-31T06:00:40Z", now)).toBe("in 40 s");
  expect(until("2026-01-31T06:05:00Z", now)).toBe("in 5 min");
  expect(until("2026-02-01T03:00:00Z", now)).toBe("in 21 h");
  expect(until("2026-02-03T06:00:00Z", now)).toBe("in 3 d");
  expect(until("2026-01-31T05:59:00Z", now)).toBe("now");
});

it("rounds what is only about right", () => {
  expect([0, 7, 42, 96, 997, 147_023_113].map(about)).toEqual([0, 7, 42, 96, 1000, 150_000_000].map(count));
});
