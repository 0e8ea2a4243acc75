<script setup lang="ts">
import { computed } from "vue";
import { counted, visible } from "../support/format";

/** Cells and words that were set in a file. */
const props = defineProps<{ figures: Record<string, unknown> }>();

interface SetCell {
  sheet: string;
  cell: string;
  value: string;
}
interface Replaced {
  find: string;
  count: number;
}
const list = <T,>(name: string) => (Array.isArray(props.figures[name]) ? (props.figures[name] as T[]) : []);
const cells = computed(() => list<SetCell>("cells"));
const more = computed(() => Number(props.figures.cells_set ?? 0) - cells.value.length);
const replaced = computed(() => list<Replaced>("replaced"));
</script>

<template>
  <ul
    v-if="cells.length + replaced.length > 0"
    class="mt-2 max-h-64 space-y-0.5 overflow-y-auto rounded-md bg-raised px-3 py-2"
    tabindex="0"
    aria-label="What was set"
  >
    <li v-for="one in cells" :key="`${one.sheet}!${one.cell}`" class="flex flex-wrap gap-x-3">
      <span class="font-mono text-[0.8125rem] text-muted [overflow-wrap:anywhere]"
        >{{ visible(one.sheet) }}!{{ one.cell }}</span
      >
      <span class="[overflow-wrap:anywhere]">{{ one.value === "" ? "emptied" : visible(one.value) }}</span>
    </li>
    <li v-if="more > 0" class="text-muted">and {{ counted(more, "more cell") }}</li>
    <li v-for="one in replaced" :key="one.find" class="flex flex-wrap justify-between gap-x-3">
      <span class="font-mono text-[0.8125rem] [overflow-wrap:anywhere]">{{ visible(one.find) }}</span>
      <span class="text-muted">{{ one.count === 0 ? "not found" : counted(one.count, "time") }}</span>
    </li>
  </ul>
</template>
