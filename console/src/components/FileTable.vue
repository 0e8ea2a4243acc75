<script setup lang="ts">
import { RouterLink } from "vue-router";
import { size, visible } from "../support/format";
import { isTable, joined } from "../support/tables";
import type { DropFile } from "../support/types";
import StateTag from "./StateTag.vue";
import TimeBeside from "./TimeBeside.vue";
import VirtualTable from "./VirtualTable.vue";

/** Files of a drop folder, however many. */
defineProps<{ files: DropFile[]; about: unknown }>();
const emit = defineEmits<{ end: [] }>();

const fields = (file: DropFile) =>
  Object.entries(file.fields)
    .map(([name, value]) => `${name} ${value}`)
    .join(" · ");
</script>

<template>
  <VirtualTable
    :rows="files"
    :of="(file: DropFile) => file.place"
    caption="What lies in the drop folder"
    :columns="5"
    :about="about"
    @end="emit('end')"
  >
    <template #head>
      <th class="cell" scope="col">File</th>
      <th class="cell text-right" scope="col">Size</th>
      <th class="cell" scope="col">Modified</th>
      <th class="cell" scope="col">Verdict</th>
      <th class="cell w-2/5" scope="col">Because</th>
    </template>
    <template #row="{ row: file }">
      <td class="cell min-w-48 max-md:w-full max-md:py-0">
        <RouterLink
          v-if="file.entry !== null"
          :to="{ name: 'entry', params: { id: file.entry } }"
          class="link break-all after:absolute after:inset-0"
          >{{ visible(file.place) }}</RouterLink
        >
        <span v-else class="break-all">{{ visible(file.place) }}</span>
        <RouterLink
          v-if="file.kind === 'file' && isTable(file.name)"
          :to="{ name: 'table', query: { path: joined(file.drop, file.path) } }"
          class="link relative z-[1] ml-2 text-xs whitespace-nowrap"
          :aria-label="`look inside ${file.place}`"
          >look inside</RouterLink
        >
        <span v-if="fields(file)" class="block text-xs text-muted">{{ fields(file) }}</span>
      </td>
      <td class="cell text-right whitespace-nowrap max-md:py-0">
        {{ file.kind === "file" ? size(file.bytes) : file.kind }}
      </td>
      <td class="cell max-md:py-0"><TimeBeside :at="file.modified" /></td>
      <td class="cell max-md:py-0"><StateTag :word="file.verdict" /></td>
      <td class="cell text-muted [overflow-wrap:anywhere] max-md:w-full max-md:py-0">
        {{ visible(file.because) }}
      </td>
    </template>
  </VirtualTable>
</template>
