/** An editor on a page that has no size, and on which nothing can be measured. */

import { flushPromises } from "@vue/test-utils";
import { EditorView } from "@codemirror/view";

const NOWHERE = { x: 0, y: 0, top: 0, left: 0, right: 0, bottom: 0, width: 0, height: 0, toJSON: () => ({}) };

/** Has ranges of text measured as nothing, which else cannot be measured at all. */
export function withoutMeasuring() {
  Range.prototype.getClientRects = () => [] as unknown as DOMRectList;
  Range.prototype.getBoundingClientRect = () => NOWHERE;
}

const editor = (label: string) => {
  const box = document.querySelector<HTMLElement>(`[aria-label="${label}"]`);
  const view = box && EditorView.findFromDOM(box);
  if (!view) throw new Error(`there is no editor ${label}`);
  return view;
};

export const written = (label: string) => editor(label).state.doc.toString();

/** Writes a text in the place of all that stands in an editor. */
export async function write(label: string, text: string) {
  const view = editor(label);
  view.dispatch({ changes: { from: 0, to: view.state.doc.length, insert: text } });
  await flushPromises();
}

/** Puts the cursor behind the first of these words; gives the line in which it stood before. */
export async function putCursor(label: string, behind: string) {
  const view = editor(label);
  const at = view.state.doc.toString().indexOf(behind) + behind.length;
  view.dispatch({ selection: { anchor: at } });
  await flushPromises();
}

export const cursorLine = (label: string) => {
  const view = editor(label);
  return view.state.doc.lineAt(view.state.selection.main.head).number;
};
