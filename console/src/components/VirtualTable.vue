<script setup lang="ts" generic="Row">
import { useVirtualizer } from "@tanstack/vue-virtual";
import { computed, useTemplateRef, watch } from "vue";

/**
 * A table of any length: only the rows that are seen are in the page. It asks for more when
 * its end comes near.
 */
const props = defineProps<{
  rows: Row[];
  /** What a row is known by. */
  of: (row: Row) => string | number;
  caption: string;
  columns: number;
  /** What the rows are of: when it is another, they are shown from the first on. */
  about: unknown;
}>();
const emit = defineEmits<{ end: [] }>();

const scrolled = useTemplateRef("scrolled");
const virtual = useVirtualizer(
  computed(() => ({
    count: props.rows.length,
    getScrollElement: () => scrolled.value,
    estimateSize: () => 45,
    overscan: 12,
    getItemKey: (at: number) => props.of(props.rows[at]!),
  })),
);
watch(
  () => JSON.stringify(props.about),
  () => scrolled.value?.scrollTo({ top: 0 }),
);
const items = computed(() => virtual.value.getVirtualItems());
const before = computed(() => items.value[0]?.start ?? 0);
const after = computed(() => virtual.value.getTotalSize() - (items.value.at(-1)?.end ?? 0));
const shown = computed(() => items.value.flatMap((item) => ({ item, row: props.rows[item.index]! })));

const NEAR = 30;
watch(
  () => [items.value.at(-1)?.index ?? 0, props.rows.length] as const,
  ([last, count]) => {
    if (count > 0 && last >= count - NEAR) emit("end");
  },
  { immediate: true },
);
/** A row tells its height, which follows from what is in it. */
const measured = (element: unknown) => virtual.value.measureElement(element as Element | null);
</script>

<template>
  <div ref="scrolled" class="max-h-[70vh] overflow-auto rounded-t-lg" tabindex="0" role="region" :aria-label="caption">
    <table class="w-full text-sm" :aria-rowcount="rows.length + 1">
      <caption class="sr-only">
        {{
          caption
        }}
      </caption>
      <thead
        class="sticky top-0 z-[2] bg-surface text-xs text-muted shadow-[inset_0_-1px_0_var(--color-line)] max-md:sr-only"
      >
        <tr aria-rowindex="1">
          <slot name="head" />
        </tr>
      </thead>
      <tbody>
        <tr v-if="before > 0" aria-hidden="true">
          <td :colspan="columns" :style="{ height: `${before}px`, padding: 0 }" />
        </tr>
        <tr
          v-for="{ item, row } in shown"
          :key="of(row)"
          :ref="measured"
          :data-index="item.index"
          :aria-rowindex="item.index + 2"
          class="relative border-b border-line hover:bg-raised max-md:flex max-md:flex-wrap max-md:items-baseline max-md:py-2"
        >
          <slot name="row" :row="row" />
        </tr>
        <tr v-if="after > 0" aria-hidden="true">
          <td :colspan="columns" :style="{ height: `${after}px`, padding: 0 }" />
        </tr>
      </tbody>
    </table>
  </div>
</template>
