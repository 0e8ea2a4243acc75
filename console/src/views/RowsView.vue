<script setup lang="ts">
import { computed } from "vue";
import { RouterLink } from "vue-router";
import AccountPanel from "../components/AccountPanel.vue";
import EmptyNote from "../components/EmptyNote.vue";
import ErrorNote from "../components/ErrorNote.vue";
import TableRows from "../components/TableRows.vue";
import { useEntry, useLoadedRows } from "../composables/useQueries";
import { counted } from "../support/format";
import { accountOf } from "../support/tables";

/** The rows of an entry in the table of a database into which it was loaded. */
const props = defineProps<{ id: number }>();
const { data, error } = useLoadedRows(() => props.id);
const { data: entry } = useEntry(() => props.id);
/** What its own batch loaded: others may have gone into the same table. */
const account = computed(() => {
  const batch = entry.value?.worked_in;
  if (!entry.value || !batch) return accountOf([]);
  const { gate } = entry.value;
  const loads = batch.outputs.filter((output) => output.has_rows);
  return accountOf(loads.map((output) => ({ ...output, gate, batch: batch.id, entries: batch.entries })));
});
const table = (output: string) => output.split("#").at(-1) ?? output;
</script>

<template>
  <p class="text-sm text-muted">
    Loaded from
    <RouterLink :to="{ name: 'entry', params: { id } }" class="link">entry {{ id }}</RouterLink>
  </p>
  <ErrorNote :error="error" />
  <template v-if="data">
    <h1 class="mb-1 text-xl font-semibold break-all">{{ table(data.output) }}</h1>
    <p class="mb-4 font-mono text-xs break-all text-muted">{{ data.output }}</p>
    <section class="panel mb-4 min-w-0" aria-labelledby="rows">
      <h2 id="rows" class="border-b border-line px-4 py-2.5 font-semibold">
        {{ data.by === null ? "First rows of any entry" : "Its first rows" }}
        <span class="ml-1 text-sm font-normal text-muted">
          {{ counted(data.rows.length, "row") }}<template v-if="data.more">, and there are more</template>
        </span>
      </h2>
      <TableRows v-if="data.rows.length > 0" :columns="data.columns" :rows="data.rows" typed />
      <EmptyNote v-else title="There are no such rows.">
        They were taken out, or others have taken their place. The history of the entry tells what a person did.
      </EmptyNote>
    </section>
    <p v-if="data.by === null" class="mb-4 text-sm text-muted">
      No column tells whose rows are whose. With <code class="font-mono">add = { entry = "&lt;entry&gt;" }</code> in the
      gate's configuration they can be told apart, and taken out again.
    </p>
    <AccountPanel v-if="account.batches > 0" :account="account" />
  </template>
</template>
