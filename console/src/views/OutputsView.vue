<script setup lang="ts">
import { computed, ref } from "vue";
import { RouterLink } from "vue-router";
import EmptyNote from "../components/EmptyNote.vue";
import ErrorNote from "../components/ErrorNote.vue";
import PickList from "../components/PickList.vue";
import TimeBeside from "../components/TimeBeside.vue";
import VirtualTable from "../components/VirtualTable.vue";
import { useOutputs } from "../composables/useOutputs";
import { useGates } from "../composables/useQueries";
import { count, counted, visible } from "../support/format";
import type { OutputPart } from "../support/types";

/** What the gates have made: files and tables, each with what was written into it last. */
const text = ref("");
const gate = ref("");
const role = ref("");
const ROLES = [
  { value: "", name: "all" },
  { value: "rows", name: "outputs of rows" },
  { value: "all", name: "outputs of all" },
  { value: "load", name: "tables of databases" },
  { value: "set aside", name: "rows set aside" },
  { value: "account", name: "accounts" },
  { value: "copy", name: "copies" },
  { value: "bundle", name: "bundles" },
  { value: "member", name: "members of archives" },
  { value: "edited", name: "edited files" },
];
const filter = computed(() => ({ text: text.value, gate: gate.value, role: role.value }));
const { data, error, hasNextPage, isFetching, fetchNextPage } = useOutputs(filter);
const outputs = computed(() => data.value?.pages.flatMap((page) => page.outputs) ?? []);
const { data: gates } = useGates();
const gateChoices = computed(() => [
  { value: "", name: "all" },
  ...(gates.value ?? []).map(({ name }) => ({ value: name, name })),
]);
const more = () => {
  if (hasNextPage.value && !isFetching.value) void fetchNextPage();
};
const folder = (path: string) => path.slice(0, path.lastIndexOf("/") + 1);
const isFile = (path: string) => path.startsWith("/");
const download = (path: string) => `/api/v1/outputs/file?path=${encodeURIComponent(path)}`;
</script>

<template>
  <h1 class="mb-3 text-2xl font-semibold">Outputs</h1>
  <form class="mb-4 flex flex-wrap items-center gap-2" role="search" @submit.prevent>
    <input
      v-model.trim.lazy="text"
      type="search"
      class="field min-w-56 flex-1"
      placeholder="Part of a path"
      aria-label="Search the outputs"
    />
    <PickList v-model="gate" label="Gate" :choices="gateChoices" />
    <PickList v-model="role" label="What" :choices="ROLES" />
  </form>
  <ErrorNote :error="error" />
  <section class="panel min-w-0" aria-label="Outputs">
    <VirtualTable
      v-if="outputs.length > 0"
      :rows="outputs"
      :of="(one: OutputPart) => one.path"
      caption="Outputs, in order of path"
      :columns="6"
      :about="filter"
      @end="more"
    >
      <template #head>
        <th class="cell" scope="col">Output</th>
        <th class="cell" scope="col">Gate</th>
        <th class="cell" scope="col">What it is</th>
        <th class="cell" scope="col">Written last</th>
        <th class="cell text-right" scope="col">Last batch</th>
        <th class="cell" scope="col"><span class="sr-only">More of it</span></th>
      </template>
      <template #row="{ row: one }">
        <td class="cell min-w-56 max-md:w-full max-md:py-0">
          <RouterLink
            :to="{ name: 'table', query: { path: one.path } }"
            class="link break-all after:absolute after:inset-0"
            >{{ visible(one.path.slice(folder(one.path).length)) }}</RouterLink
          >
          <span class="block text-xs break-all text-muted">{{ visible(folder(one.path)) }}</span>
        </td>
        <td class="cell max-md:py-0">{{ one.gate }}</td>
        <td class="cell max-md:py-0">{{ one.label }}</td>
        <td class="cell max-md:py-0"><TimeBeside v-if="one.published_at" :at="one.published_at" /></td>
        <td class="cell text-right text-muted max-md:py-0">
          {{ counted(one.entries, "file")
          }}<template v-if="one.rows !== null">, {{ counted(one.rows, "row") }}</template>
        </td>
        <td class="cell relative z-[1] text-right whitespace-nowrap max-md:py-0">
          <RouterLink
            :to="{ name: 'lineage', query: { output: one.path } }"
            class="link text-xs"
            :aria-label="`lineage of ${visible(one.path)}`"
            >lineage</RouterLink
          >
          <a
            v-if="isFile(one.path)"
            :href="download(one.path)"
            download
            class="link ml-2 text-xs"
            :aria-label="`download ${visible(one.path)}`"
            >download</a
          >
        </td>
      </template>
    </VirtualTable>
    <EmptyNote v-else-if="data && (text !== '' || gate !== '' || role !== '')" title="No output is so.">
      Search for less, for another gate, or for something else.
    </EmptyNote>
    <EmptyNote v-else-if="data" title="Nothing was made yet.">
      Tables, copies and members of archives are listed here once a gate has made them.
    </EmptyNote>
    <p v-else-if="!error" class="px-4 py-8 text-center text-muted" role="status">Reading the outputs …</p>
    <p v-if="outputs.length > 0" class="border-t border-line px-4 py-2 text-sm text-muted" role="status">
      {{ hasNextPage ? `${count(outputs.length)} read so far` : counted(outputs.length, "output") }}
    </p>
  </section>
</template>
