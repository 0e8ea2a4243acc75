<script setup lang="ts">
import { RouterLink } from "vue-router";
import { noteOf } from "../support/entries";
import { size, visible } from "../support/format";
import type { Entry } from "../support/types";
import StateTag from "./StateTag.vue";
import TimeAgo from "./TimeAgo.vue";

defineProps<{ entries: Entry[]; caption: string }>();
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
          class="relative hover:bg-raised max-md:flex max-md:flex-wrap max-md:items-baseline max-md:py-2"
        >
          <td class="cell max-md:py-0">
            <RouterLink :to="{ name: 'entry', params: { id: entry.id } }" class="link after:absolute after:inset-0">{{
              entry.id
            }}</RouterLink>
          </td>
          <td class="cell max-md:py-0">{{ entry.gate }}</td>
          <td class="cell [overflow-wrap:anywhere] max-md:order-first max-md:w-full max-md:py-0 max-md:font-medium">
            {{ visible(entry.path) }}
          </td>
          <td class="cell text-right whitespace-nowrap max-md:py-0">{{ size(entry.bytes) }}</td>
          <td class="cell max-md:py-0"><TimeAgo :at="entry.ready_at" /></td>
          <td class="cell max-md:py-0"><StateTag :word="entry.state" /></td>
          <td class="cell text-muted max-md:w-full max-md:py-0 max-md:empty:hidden">{{ visible(noteOf(entry)) }}</td>
        </tr>
      </tbody>
    </table>
  </div>
</template>
