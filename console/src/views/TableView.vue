<script setup lang="ts">
import { computed, ref, watch } from "vue";
import { RouterLink } from "vue-router";
import AccountPanel from "../components/AccountPanel.vue";
import EmptyNote from "../components/EmptyNote.vue";
import ErrorNote from "../components/ErrorNote.vue";
import PickList from "../components/PickList.vue";
import TableColumns from "../components/TableColumns.vue";
import TableRows from "../components/TableRows.vue";
import { useOutput, useSample } from "../composables/useQueries";
import { about, counted, visible } from "../support/format";
import { kindOf } from "../support/tables";

/** What is in one file: its tables; and, when it is an output, its account. */
const props = defineProps<{ path: string }>();
const { data, error } = useSample(() => props.path);
const { data: account } = useOutput(() => props.path);

const sheet = ref("");
const sheets = computed(() =>
  (data.value?.tables ?? []).flatMap((table) =>
    table.sheet == null ? [] : [{ value: table.sheet, name: table.sheet }],
  ),
);
watch(sheets, (all) => {
  if (!all.some((one) => one.value === sheet.value)) sheet.value = all[0]?.value ?? "";
});
const table = computed(() => {
  const tables = data.value?.tables ?? [];
  return tables.find((one) => one.sheet === sheet.value) ?? tables[0];
});
const name = computed(() => props.path.split("/").at(-1) ?? props.path);
</script>

<template>
  <p class="font-mono text-xs break-all text-muted">{{ visible(path) }}</p>
  <h1 class="mb-1 text-xl font-semibold break-all">{{ visible(name) }}</h1>
  <p class="mb-4 flex flex-wrap gap-x-4 text-sm text-muted">
    <span v-if="data">{{ kindOf(data) }}</span>
    <template v-if="account && account.batches > 0">
      <RouterLink :to="{ name: 'lineage', query: { output: path } }" class="link">Lineage</RouterLink>
      <a
        v-if="path.startsWith('/')"
        :href="`/api/v1/outputs/file?path=${encodeURIComponent(path)}`"
        download
        class="link"
        >Download</a
      >
    </template>
  </p>
  <ErrorNote :error="error" />
  <AccountPanel v-if="account && account.batches > 0" :account="account" class="mb-4" />
  <template v-if="table">
    <section class="panel mb-4 min-w-0" aria-labelledby="columns">
      <div class="flex flex-wrap items-center justify-between gap-2 border-b border-line px-4 py-2">
        <h2 id="columns" class="font-semibold">
          Columns
          <span class="ml-1 text-sm font-normal text-muted">
            {{ counted(table.columns.length, "column") }}, {{ table.more ? "of the first" : "of all" }}
            {{ counted(table.rows, "row") }}<template v-if="table.about"> of about {{ about(table.about) }}</template>
          </span>
        </h2>
        <PickList v-if="sheets.length > 1" v-model="sheet" label="Sheet" :choices="sheets" />
      </div>
      <TableColumns :columns="table.columns" />
      <p v-if="table.fault" role="alert" class="border-t border-line px-4 py-2 text-sm text-danger">
        What follows cannot be read: {{ table.fault }}
      </p>
    </section>
    <section class="panel min-w-0" aria-labelledby="rows">
      <h2 id="rows" class="border-b border-line px-4 py-2.5 font-semibold">
        First rows
        <span class="ml-1 text-sm font-normal text-muted">{{ counted(table.first.length, "row") }}</span>
      </h2>
      <TableRows v-if="table.first.length > 0" :columns="table.columns" :rows="table.first" />
      <EmptyNote v-else title="There is no row.">Only the names of the columns stand there.</EmptyNote>
    </section>
  </template>
  <EmptyNote v-else-if="data" title="There is no table in it.">Its sheets are empty, or hidden.</EmptyNote>
</template>
