<script setup lang="ts">
import { RouterLink } from "vue-router";
import { size, visible } from "../support/format";
import { isTable, joined } from "../support/tables";
import type { DropFile } from "../support/types";
import StateTag from "./StateTag.vue";
import TimeAgo from "./TimeAgo.vue";

defineProps<{ files: DropFile[] }>();

const fields = (file: DropFile) =>
  Object.entries(file.fields)
    .map(([name, value]) => `${name} ${value}`)
    .join(" · ");
</script>

<template>
  <div class="overflow-x-auto">
    <table class="w-full text-sm">
      <caption class="sr-only">
        What lies in the drop folder
      </caption>
      <thead class="border-b border-line text-xs text-muted max-md:sr-only">
        <tr>
          <th class="cell" scope="col">File</th>
          <th class="cell text-right" scope="col">Size</th>
          <th class="cell" scope="col">Modified</th>
          <th class="cell" scope="col">Verdict</th>
          <th class="cell w-2/5" scope="col">Because</th>
        </tr>
      </thead>
      <tbody class="divide-y divide-line">
        <tr
          v-for="file in files"
          :key="file.place"
          class="hover:bg-raised max-md:flex max-md:flex-wrap max-md:items-baseline max-md:py-2"
        >
          <td class="cell max-md:w-full max-md:py-0">
            <RouterLink
              v-if="file.entry !== null"
              :to="{ name: 'entry', params: { id: file.entry } }"
              class="link break-all"
              >{{ visible(file.place) }}</RouterLink
            >
            <span v-else class="break-all">{{ visible(file.place) }}</span>
            <RouterLink
              v-if="file.kind === 'file' && isTable(file.name)"
              :to="{ name: 'table', query: { path: joined(file.drop, file.path) } }"
              class="link ml-2 text-xs"
              :aria-label="`look inside ${file.place}`"
              >look inside</RouterLink
            >
            <span v-if="fields(file)" class="block text-xs text-muted">{{ fields(file) }}</span>
          </td>
          <td class="cell text-right whitespace-nowrap max-md:py-0">
            {{ file.kind === "file" ? size(file.bytes) : file.kind }}
          </td>
          <td class="cell max-md:py-0"><TimeAgo :at="file.modified" /></td>
          <td class="cell max-md:py-0"><StateTag :word="file.verdict" /></td>
          <td class="cell text-muted [overflow-wrap:anywhere] max-md:w-full max-md:py-0">
            {{ visible(file.because) }}
          </td>
        </tr>
      </tbody>
    </table>
  </div>
</template>
