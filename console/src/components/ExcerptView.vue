<script setup lang="ts">
import { useExcerpt } from "../composables/useHeld";
import { marked } from "../support/excerpt";
import { count, visible } from "../support/format";
import ErrorNote from "./ErrorNote.vue";

/** The text of an entry's file around the line at which something is wrong. */
const props = defineProps<{ entry: number }>();
const { data, error } = useExcerpt(() => props.entry);
</script>

<template>
  <ErrorNote :error="error" />
  <p v-if="!data && !error" class="text-sm text-muted" role="status">Reading the file …</p>
  <p v-else-if="data?.binary" class="text-sm text-muted">It is no text; download it to look inside.</p>
  <p v-else-if="data && data.lines.length === 0" class="text-sm text-muted">
    {{ data.line === null ? "The file is empty." : `The file has no line ${count(data.line)}.` }}
  </p>
  <div
    v-else-if="data"
    class="overflow-x-auto rounded-md border border-line bg-ground font-mono text-xs"
    tabindex="0"
    role="region"
    aria-label="The file around the fault"
  >
    <table class="w-full">
      <tbody>
        <tr
          v-for="line in data.lines"
          :key="line.number"
          :class="{ 'bg-danger-soft': line.number === data.line }"
          :aria-current="line.number === data.line ? 'true' : undefined"
        >
          <th scope="row" class="w-0 border-r border-line px-2 py-0.5 text-right font-normal text-muted select-none">
            {{ line.number }}
          </th>
          <td class="px-2 py-0.5 whitespace-pre">
            <template
              v-for="(piece, at) in marked(visible(line.text), line.number === data.line ? data.quoted : [])"
              :key="at"
            >
              <mark v-if="piece.marked" class="rounded-sm bg-danger px-0.5 text-surface">{{
                piece.text
              }}</mark><template v-else>{{ piece.text }}</template></template
            ><span v-if="line.cut" class="text-muted"> … (cut)</span>
          </td>
        </tr>
      </tbody>
    </table>
  </div>
</template>
