<script setup lang="ts">
import { RouterLink } from "vue-router";
import { size, visible } from "../support/format";
import type { Entry } from "../support/types";
import StateTag from "./StateTag.vue";
import TimeAgo from "./TimeAgo.vue";

defineProps<{ entries: Entry[]; caption: string }>();

/** What is most worth knowing of an entry, in a few words. */
function note(entry: Entry): string {
  if (entry.repeat_of !== null) return `repeat of entry ${entry.repeat_of}`;
  if (entry.reason !== null) return entry.reason;
  return entry.rows === null ? "" : `${entry.rows} rows`;
}
</script>

<template>
  <div class="overflow-x-auto">
    <table class="w-full text-sm">
      <caption class="sr-only">
        {{
          caption
        }}
      </caption>
      <thead class="border-b border-line text-xs text-muted max-md:sr-only">
        <tr>
          <th class="cell" scope="col">Entry</th>
          <th class="cell" scope="col">Gate</th>
          <th class="cell w-[38%]" scope="col">File</th>
          <th class="cell text-right" scope="col">Size</th>
          <th class="cell" scope="col">Entered</th>
          <th class="cell" scope="col">State</th>
          <th class="cell" scope="col">Note</th>
        </tr>
      </thead>
      <tbody class="divide-y divide-line">
        <tr
          v-for="entry in entries"
          :key="entry.id"
          class="hover:bg-raised max-md:flex max-md:flex-wrap max-md:items-baseline max-md:py-2"
        >
          <td class="cell max-md:py-0">
            <RouterLink :to="{ name: 'entry', params: { id: entry.id } }" class="link">{{ entry.id }}</RouterLink>
          </td>
          <td class="cell max-md:py-0">{{ entry.gate }}</td>
          <td class="cell [overflow-wrap:anywhere] max-md:order-first max-md:w-full max-md:py-0 max-md:font-medium">
            {{ visible(entry.path) }}
          </td>
          <td class="cell text-right whitespace-nowrap max-md:py-0">{{ size(entry.bytes) }}</td>
          <td class="cell max-md:py-0"><TimeAgo :at="entry.ready_at" /></td>
          <td class="cell max-md:py-0"><StateTag :word="entry.state" /></td>
          <td class="cell text-muted max-md:w-full max-md:py-0 max-md:empty:hidden">{{ note(entry) }}</td>
        </tr>
      </tbody>
    </table>
  </div>
</template>
