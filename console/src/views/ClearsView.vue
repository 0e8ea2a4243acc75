<script setup lang="ts">
import { computed, ref } from "vue";
import { RouterLink } from "vue-router";
import ClearCard from "../components/ClearCard.vue";
import EmptyNote from "../components/EmptyNote.vue";
import ErrorNote from "../components/ErrorNote.vue";
import PickList from "../components/PickList.vue";
import TimeAgo from "../components/TimeAgo.vue";
import { useClears, useRemovals } from "../composables/useQueries";
import { counted, size, visible } from "../support/format";

const { data: rules, error } = useClears();
const rule = ref("");
const { data, error: failed, hasNextPage, fetchNextPage, isFetchingNextPage } = useRemovals(rule);
const removals = computed(() => data.value?.pages.flat() ?? []);
const choices = computed(() => [
  { value: "", name: "all" },
  ...(rules.value ?? []).map(({ name }) => ({ value: name, name })),
]);
</script>

<template>
  <h1 class="mb-3 text-2xl font-semibold">Clears</h1>
  <ErrorNote :error="error ?? failed" />
  <section v-if="rules && rules.length === 0" class="panel mb-4">
    <EmptyNote title="No rule clears files.">
      A <span class="font-mono">[clear.NAME]</span> section of the configuration removes files by patterns and age;
      <span class="font-mono">vadegate clear FOLDER --match …</span> does it once.
    </EmptyNote>
  </section>
  <div class="mb-6 grid items-start gap-4" :class="(rules?.length ?? 0) > 1 ? 'lg:grid-cols-2' : ''">
    <ClearCard v-for="one in rules ?? []" :key="one.name" :rule="one" />
  </div>
  <div class="mb-3 flex flex-wrap items-center justify-between gap-2">
    <h2 class="text-lg font-semibold">Removed files</h2>
    <PickList v-model="rule" label="Rule" :choices="choices" />
  </div>
  <section class="panel min-w-0" aria-label="Removed files">
    <div v-if="removals.length > 0" class="overflow-x-auto">
      <table class="w-full text-sm">
        <caption class="sr-only">
          Removed files, newest first
        </caption>
        <thead class="border-b border-line text-xs text-muted max-md:sr-only">
          <tr>
            <th class="cell w-[42%]" scope="col">File</th>
            <th class="cell text-right" scope="col">Size</th>
            <th class="cell" scope="col">Removed</th>
            <th class="cell" scope="col">Rule</th>
            <th class="cell" scope="col">Entry</th>
            <th class="cell" scope="col">Who, and why</th>
          </tr>
        </thead>
        <tbody class="divide-y divide-line">
          <tr
            v-for="one in removals"
            :key="one.id"
            class="hover:bg-raised max-md:flex max-md:flex-wrap max-md:items-baseline max-md:py-2"
          >
            <td class="cell font-mono text-[0.8125rem] [overflow-wrap:anywhere] max-md:w-full max-md:py-0">
              {{ visible(one.path) }}
              <span v-if="one.moved_to" class="block text-muted">moved to {{ visible(one.moved_to) }}</span>
            </td>
            <td class="cell text-right whitespace-nowrap max-md:py-0">{{ size(one.bytes) }}</td>
            <td class="cell max-md:py-0">
              <TimeAgo v-if="one.removed_at" :at="one.removed_at" />
              <span v-else class="text-muted">under way</span>
            </td>
            <td class="cell [overflow-wrap:anywhere] max-md:py-0">{{ one.rule }}</td>
            <td class="cell max-md:py-0">
              <RouterLink v-if="one.entry" :to="{ name: 'entry', params: { id: one.entry } }" class="link">{{
                one.entry
              }}</RouterLink>
            </td>
            <td class="cell text-muted [overflow-wrap:anywhere] max-md:w-full max-md:py-0">
              {{ visible(one.who) }}: {{ visible(one.why) }}
            </td>
          </tr>
        </tbody>
      </table>
    </div>
    <EmptyNote v-else-if="data" title="Nothing was removed.">
      Every file that a clear removes is listed here, with who said so and why.
    </EmptyNote>
    <div
      v-if="removals.length > 0"
      class="flex items-center justify-between border-t border-line px-4 py-2 text-sm text-muted"
    >
      <span>{{ counted(removals.length, "removal") }} shown, newest first</span>
      <button v-if="hasNextPage" class="button" :disabled="isFetchingNextPage" @click="fetchNextPage()">
        {{ isFetchingNextPage ? "Reading …" : "Show more" }}
      </button>
    </div>
  </section>
</template>
