/** What each test begins with, and leaves as it was: files of tests share their page. */

import { afterEach, vi } from "vitest";

class Unmoved {
  observe() {}
  unobserve() {}
  disconnect() {}
}

// A page that nobody sees has no sizes that could change.
if (typeof window !== "undefined") window.ResizeObserver ??= Unmoved;

afterEach(() => {
  vi.useRealTimers();
  vi.unstubAllGlobals();
  vi.restoreAllMocks();
  if (typeof document === "undefined") return;
  document.body.innerHTML = "";
  localStorage.clear();
});
