<script setup lang="ts">
import { autocompletion, type CompletionContext } from "@codemirror/autocomplete";
import { StreamLanguage } from "@codemirror/language";
import { toml } from "@codemirror/legacy-modes/mode/toml";
import { lintGutter, setDiagnostics } from "@codemirror/lint";
import { EditorState } from "@codemirror/state";
import { EditorView } from "@codemirror/view";
import { basicSetup } from "codemirror";
import { onBeforeUnmount, onMounted, useTemplateRef, watch } from "vue";
import { placeAt, type Place } from "../support/tomlAt";
import type { ConfigFault, ConfigKey } from "../support/types";

/** A file of the configuration: with its faults beside its lines, and its keys as one types. */
const props = defineProps<{ faults: ConfigFault[]; keys: ConfigKey[]; label: string }>();
const text = defineModel<string>({ required: true });
const emit = defineEmits<{ place: [place: Place] }>();
const box = useTemplateRef("box");
let view: EditorView | undefined;

function complete(context: CompletionContext) {
  const { section, writing } = placeAt(context.state.doc.toString(), context.pos);
  const word = context.matchBefore(/[a-z_]*/);
  if (!writing || word === null || (word.from === word.to && !context.explicit)) return null;
  const fitting = props.keys.filter((key) => key.section === section);
  const options = (fitting.length > 0 ? fitting : props.keys).map((key) => ({
    label: key.key,
    type: "property",
    apply: `${key.key} = `,
    detail: key.default ?? "",
    info: key.meaning,
  }));
  return { from: word.from, options };
}

function showFaults() {
  if (!view) return;
  const { doc } = view.state;
  const faults = props.faults.filter((fault) => fault.line >= 1 && fault.line <= doc.lines);
  const diagnostics = faults.map((fault) => {
    const line = doc.line(fault.line);
    const from = Math.min(line.from + fault.column - 1, line.to);
    return { from, to: line.to, severity: "error" as const, message: fault.message };
  });
  view.dispatch(setDiagnostics(view.state, diagnostics));
}

onMounted(() => {
  view = new EditorView({
    parent: box.value!,
    state: EditorState.create({
      doc: text.value,
      extensions: [
        basicSetup,
        StreamLanguage.define(toml),
        lintGutter(),
        autocompletion({ override: [complete] }),
        EditorView.contentAttributes.of({ "aria-label": props.label }),
        EditorView.updateListener.of((update) => {
          if (update.docChanged) text.value = update.state.doc.toString();
          if (update.docChanged || update.selectionSet) {
            emit("place", placeAt(update.state.doc.toString(), update.state.selection.main.head));
          }
        }),
      ],
    }),
  });
  showFaults();
});
onBeforeUnmount(() => view?.destroy());
watch(() => props.faults, showFaults);
watch(text, (now) => {
  if (!view || now === view.state.doc.toString()) return;
  view.dispatch({ changes: { from: 0, to: view.state.doc.length, insert: now } });
});
/** Brings a line into view, and the cursor there. */
function goTo(line: number) {
  if (!view) return;
  const at = view.state.doc.line(Math.min(Math.max(1, line), view.state.doc.lines)).from;
  view.dispatch({ selection: { anchor: at }, effects: EditorView.scrollIntoView(at, { y: "center" }) });
  view.focus();
}
defineExpose({ goTo });
</script>

<template>
  <div ref="box" class="editor overflow-hidden rounded-b-lg text-sm" />
</template>

<style scoped>
.editor :deep(.cm-editor) {
  max-height: 68vh;
  min-height: 16rem;
  background: var(--color-surface);
  color: var(--color-text);
}
.editor :deep(.cm-scroller) {
  font-family: var(--font-mono);
}
.editor :deep(.cm-gutters),
.editor :deep(.cm-tooltip) {
  background: var(--color-raised);
  color: var(--color-text);
  border-color: var(--color-line);
}
.editor :deep(.cm-activeLine),
.editor :deep(.cm-activeLineGutter) {
  background: color-mix(in srgb, var(--color-raised) 60%, transparent);
}
.editor :deep(.cm-cursor) {
  border-left-color: var(--color-text);
}
/* The palette's own colours: they are read in light and dark. */
.editor :deep(.cm-line span) {
  color: inherit;
}
.editor :deep(.cm-lintRange-error) {
  text-decoration: underline wavy var(--color-danger);
  background-image: none;
}
</style>
