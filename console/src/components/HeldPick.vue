<script setup lang="ts">
import { computed, ref, watch } from "vue";
import { useEntriesById } from "../composables/useHeld";
import { useMay } from "../composables/useMe";
import { count, visible } from "../support/format";
import type { EntryAction, HeldGroup } from "../support/types";
import HeldActions from "./HeldActions.vue";

/** The files of one reason: some or all are chosen, and one is looked at. */
const props = defineProps<{ group: HeldGroup }>();
const looked = defineModel<number>("looked", { required: true });
const emit = defineEmits<{ act: [action: EntryAction, entries: number[]] }>();
const operator = useMay("operator");
const { entries, hasNextPage, fetchNextPage, isFetchingNextPage } = useEntriesById(() => props.group.entries);
const chosen = ref<number[]>([]);
// What is not held any more is not chosen any more.
watch(
  () => props.group.entries,
  (ids) => {
    const there = new Set(ids);
    chosen.value = chosen.value.filter((id) => there.has(id));
  },
);
const all = computed({
  get: () => chosen.value.length === props.group.entries.length,
  set: (every) => (chosen.value = every ? [...props.group.entries] : []),
});
</script>

<template>
  <div class="min-w-0">
    <div v-if="operator" class="flex flex-wrap items-center gap-2 border-b border-line px-4 py-2 text-sm">
      <label class="flex items-center gap-2"
        ><input v-model="all" type="checkbox" class="accent-accent" /> All {{ count(group.entries.length) }}</label
      >
      <span class="text-muted" role="status">{{ count(chosen.length) }} chosen</span>
      <HeldActions :none="chosen.length === 0" @act="(action) => emit('act', action, [...chosen])" />
    </div>
    <ul class="max-h-[50vh] divide-y divide-line overflow-y-auto text-sm" tabindex="0" aria-label="Held files">
      <li
        v-for="entry in entries"
        :key="entry.id"
        class="flex items-baseline gap-3 px-4 py-1.5"
        :class="{ 'bg-raised': entry.id === looked }"
      >
        <input
          v-if="operator"
          v-model="chosen"
          type="checkbox"
          class="accent-accent"
          :value="entry.id"
          :aria-label="`choose ${visible(entry.path)}`"
        />
        <button
          class="link min-w-0 text-left [overflow-wrap:anywhere]"
          :aria-current="entry.id === looked ? 'true' : undefined"
          @click="looked = entry.id"
        >
          {{ visible(entry.path) }}
        </button>
      </li>
      <li v-if="hasNextPage" class="px-4 py-2">
        <button class="button" :disabled="isFetchingNextPage" @click="fetchNextPage()">Show more</button>
      </li>
    </ul>
  </div>
</template>
