<script setup lang="ts">
import { RouterLink } from "vue-router";
import { size, visible } from "../support/format";
import type { Filter } from "../support/ledger";
import { noteOf } from "../support/entries";
import type { Entry } from "../support/types";
import SortHead from "./SortHead.vue";
import StateTag from "./StateTag.vue";
import TimeBeside from "./TimeBeside.vue";
import VirtualTable from "./VirtualTable.vue";

/** Entries of the ledger, however many; a whole row leads to its entry. */
defineProps<{ entries: Entry[]; begun: unknown }>();
const filter = defineModel<Filter>("filter", { required: true });
const emit = defineEmits<{ end: [] }>();
</script>

<template>
  <VirtualTable
    :rows="entries"
    :of="(entry: Entry) => entry.id"
    caption="Entries"
    :columns="7 + filter.columns.length"
    :about="[filter, begun]"
    @end="emit('end')"
  >
    <template #head>
      <th class="cell" scope="col">Entry</th>
      <th class="cell" scope="col">Gate</th>
      <SortHead v-model:sort="filter.sort" v-model:up="filter.up" name="File" order="name" />
      <SortHead v-model:sort="filter.sort" v-model:up="filter.up" name="Size" order="size" right />
      <SortHead v-model:sort="filter.sort" v-model:up="filter.up" name="Entered" order="entered" />
      <th class="cell" scope="col">State</th>
      <th v-for="name in filter.columns" :key="name" class="cell" scope="col">{{ visible(name) }}</th>
      <th class="cell" scope="col">Note</th>
    </template>
    <template #row="{ row: entry }">
      <td class="cell max-md:py-0">
        <RouterLink :to="{ name: 'entry', params: { id: entry.id } }" class="link after:absolute after:inset-0">{{
          entry.id
        }}</RouterLink>
      </td>
      <td class="cell max-md:py-0">{{ entry.gate }}</td>
      <td
        class="cell w-1/3 min-w-48 [overflow-wrap:anywhere] max-md:order-first max-md:w-full max-md:py-0 max-md:font-medium"
      >
        {{ visible(entry.path) }}
      </td>
      <td class="cell text-right whitespace-nowrap max-md:py-0">{{ size(entry.bytes) }}</td>
      <td class="cell max-md:py-0"><TimeBeside :at="entry.ready_at" /></td>
      <td class="cell max-md:py-0"><StateTag :word="entry.state" /></td>
      <td v-for="name in filter.columns" :key="name" class="cell max-md:py-0">
        {{ visible(entry.fields[name] ?? "") }}
      </td>
      <td class="cell text-muted [overflow-wrap:anywhere] max-md:w-full max-md:py-0 max-md:empty:hidden">
        {{ visible(noteOf(entry)) }}
      </td>
    </template>
  </VirtualTable>
</template>
