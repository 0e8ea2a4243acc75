// @vitest-environment jsdom
import { beforeEach, expect, it, vi } from "vitest";
import { askedAgain, within } from "../testing/page";
import { useHold } from "./useHold";
import { useLive } from "./useLive";

/** A line of events that a test speaks on. */
class Line extends EventTarget {
  static readonly CLOSED = 2;
  static all: Line[] = [];
  readyState = 0;
  constructor(readonly url: string) {
    super();
    Line.all.push(this);
  }
  say(kind: string) {
    this.dispatchEvent(new Event(kind));
  }
  close() {
    this.readyState = Line.CLOSED;
  }
}

const last = () => Line.all.at(-1)!;
let seen: DocumentVisibilityState = "visible";

beforeEach(() => {
  vi.useFakeTimers();
  vi.stubGlobal("EventSource", Line);
  Line.all = [];
  seen = "visible";
  vi.spyOn(document, "visibilityState", "get").mockImplementation(() => seen);
});

function live(options = {}) {
  const page = within(() => useLive(options));
  const asked = vi.spyOn(page.queryClient, "invalidateQueries").mockResolvedValue();
  const keys = () => askedAgain(asked.mock.calls);
  return { ...page, asked, keys };
}

it("what has become stale is asked for once, however many events tell of it", () => {
  const { made, keys, asked, end } = live();
  expect(made.line.value).toBe("connecting");
  last().say("open");
  expect(made.line.value).toBe("live");
  expect(keys()).toEqual([]);
  for (let at = 0; at < 500; at += 1) last().say("change");
  last().say("gate");
  expect(keys()).toEqual([]);
  vi.advanceTimersByTime(400);
  expect(keys()).toEqual(["activity", "changes", "entries", "entry", "files", "gates", "service"]);
  asked.mockClear();
  vi.advanceTimersByTime(10_000);
  expect(keys()).toEqual([]);
  last().say("gate");
  vi.advanceTimersByTime(400);
  expect(keys()).toEqual(["files", "gates", "service"]);
  end();
});

it("after a line that was lost everything is asked for again, since nobody heard what happened", () => {
  const { made, keys, end } = live();
  last().say("open");
  last().say("error");
  expect(made.line.value).toBe("lost");
  // The browser tries by itself as long as the line is not closed.
  vi.advanceTimersByTime(60_000);
  expect(Line.all).toHaveLength(1);
  last().say("open");
  expect(keys()).toEqual(["all"]);
  expect(made.line.value).toBe("live");
  // A service that refuses is tried again from here.
  last().close();
  last().say("error");
  vi.advanceTimersByTime(2999);
  expect(Line.all).toHaveLength(1);
  vi.advanceTimersByTime(1);
  expect(Line.all).toHaveLength(2);
  end();
});

it("a page that nobody sees holds no line, and catches up when it is seen", () => {
  const { keys, end } = live();
  last().say("open");
  seen = "hidden";
  document.dispatchEvent(new Event("visibilitychange"));
  expect(last().readyState).toBe(Line.CLOSED);
  seen = "visible";
  document.dispatchEvent(new Event("visibilitychange"));
  expect(Line.all).toHaveLength(2);
  last().say("open");
  expect(keys()).toEqual(["all"]);
  // Kept for going back, and come back to.
  window.dispatchEvent(new Event("pagehide"));
  expect(last().readyState).toBe(Line.CLOSED);
  window.dispatchEvent(new Event("pageshow"));
  expect(Line.all).toHaveLength(3);
  end();
  expect(last().readyState).toBe(Line.CLOSED);
  document.dispatchEvent(new Event("visibilitychange"));
  window.dispatchEvent(new Event("pageshow"));
  expect(Line.all).toHaveLength(3);
});

it("a list that somebody reads stays as it is, and is read anew when they are done", () => {
  let reading = true;
  const page = within(() => ({ ...useLive(), ...useHold("changes", () => reading) }));
  const asked = vi.spyOn(page.queryClient, "invalidateQueries").mockResolvedValue();
  const keys = () => askedAgain(asked.mock.calls);
  last().say("open");
  expect(page.made.missed.value).toBe(false);
  last().say("change");
  vi.advanceTimersByTime(400);
  expect(keys()).not.toContain("changes");
  expect(keys()).toContain("entries");
  expect(page.made.missed.value).toBe(true);
  reading = false;
  page.made.freshen();
  expect(keys().filter((key) => key === "changes")).toHaveLength(1);
  expect(page.made.missed.value).toBe(false);
  last().say("change");
  vi.advanceTimersByTime(400);
  expect(keys().filter((key) => key === "changes")).toHaveLength(2);
  page.end();
});
