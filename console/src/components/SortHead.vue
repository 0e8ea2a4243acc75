<script setup lang="ts" generic="Order extends string">
import { computed } from "vue";

/** The head of a column by which a table can be sorted. */
const props = defineProps<{ name: string; order: Order; right?: boolean }>();
const sort = defineModel<Order>("sort", { required: true });
const up = defineModel<boolean>("up", { required: true });
const mine = computed(() => sort.value === props.order);

function press() {
  up.value = mine.value && !up.value;
  sort.value = props.order;
}
</script>

<template>
  <th
    class="cell"
    :class="{ 'text-right': right }"
    scope="col"
    :aria-sort="mine ? (up ? 'ascending' : 'descending') : 'none'"
  >
    <button class="inline-flex items-center gap-1 font-bold hover:underline" @click="press">
      {{ name }}
      <svg
        viewBox="0 0 12 12"
        class="size-2.5"
        :class="[mine ? 'opacity-100' : 'opacity-0', { 'rotate-180': up }]"
        fill="none"
        stroke="currentColor"
        stroke-width="1.8"
        aria-hidden="true"
      >
        <path d="M6 2v8M2.5 6.5 6 10l3.5-3.5" stroke-linecap="round" stroke-linejoin="round" />
      </svg>
    </button>
  </th>
</template>
