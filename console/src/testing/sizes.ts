/** A page with sizes: one that nobody sees has none, and shows no row of a long table. */

import { vi } from "vitest";

/** Height of a row in pixels. */
export const ROW = 45;

/** Room for ten rows. Taken back by `vi.restoreAllMocks`. */
export function withRoom() {
  // Where nothing is seen nothing is scrolled either.
  Element.prototype.scrollTo = () => undefined;
  vi.spyOn(Element.prototype, "clientHeight", "get").mockReturnValue(10 * ROW);
  vi.spyOn(Element.prototype, "clientWidth", "get").mockReturnValue(900);
  vi.spyOn(HTMLElement.prototype, "offsetHeight", "get").mockReturnValue(ROW);
}
