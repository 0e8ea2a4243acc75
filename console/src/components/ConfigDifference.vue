<script setup lang="ts">
import { unifiedMergeView } from "@codemirror/merge";
import { EditorState } from "@codemirror/state";
import { EditorView, lineNumbers } from "@codemirror/view";
import { onBeforeUnmount, onMounted, useTemplateRef } from "vue";

/** What would be changed, line by line. */
const props = defineProps<{ before: string; after: string }>();
const box = useTemplateRef("box");
let view: EditorView | undefined;
onMounted(() => {
  view = new EditorView({
    parent: box.value!,
    state: EditorState.create({
      doc: props.after,
      extensions: [
        lineNumbers(),
        EditorState.readOnly.of(true),
        EditorView.editable.of(false),
        EditorView.contentAttributes.of({ "aria-label": "What would be changed", tabindex: "0" }),
        unifiedMergeView({
          original: props.before,
          mergeControls: false,
          collapseUnchanged: { margin: 2, minSize: 4 },
        }),
      ],
    }),
  });
});
onBeforeUnmount(() => view?.destroy());
</script>

<template>
  <div ref="box" class="difference overflow-hidden rounded-md border border-line text-xs" />
</template>

<style scoped>
.difference :deep(.cm-editor) {
  max-height: 18rem;
  background: var(--color-surface);
  color: var(--color-text);
}
.difference :deep(.cm-gutters) {
  background: var(--color-raised);
  color: var(--color-muted);
}
.difference :deep(.cm-collapsedLines) {
  background: var(--color-raised);
  color: var(--color-text);
}
.difference :deep(.cm-deletedChunk),
.difference :deep(.cm-deletedLine) {
  background: var(--color-danger-soft);
}
.difference :deep(.cm-changedLine) {
  background: var(--color-good-soft);
}
</style>
