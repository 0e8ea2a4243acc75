/** Takes the focus to the heading of a page that is gone to, as a page that is loaded does. */

import { watch } from "vue";
import { useRoute } from "vue-router";

/** A page may need so long before its heading is there, in milliseconds. */
const WITHIN = 3000;

export function usePageFocus() {
  const route = useRoute();
  let waiting: MutationObserver | undefined;
  watch(
    () => route.path,
    (_path, before) => {
      waiting?.disconnect();
      // The first page is the browser's own business.
      if (before === undefined || before === "/" || document.body === null) return;
      const old = document.querySelector("main h1");
      const take = () => {
        const heading = document.querySelector<HTMLElement>("main h1");
        if (heading === null || heading === old) return false;
        // Who is typing, or is asked something, stays there.
        if (document.activeElement?.closest("input, textarea, select, [role=dialog], .cm-editor") == null) {
          heading.tabIndex = -1;
          heading.focus({ preventScroll: true });
        }
        return true;
      };
      waiting = new MutationObserver(() => {
        if (take()) waiting?.disconnect();
      });
      waiting.observe(document.querySelector("main") ?? document.body, { childList: true, subtree: true });
      setTimeout(() => waiting?.disconnect(), WITHIN);
    },
  );
}
