<script setup lang="ts">
import { computed } from "vue";
import { RouterLink } from "vue-router";
import BatchPanel from "../components/BatchPanel.vue";
import EntryActions from "../components/EntryActions.vue";
import ErrorNote from "../components/ErrorNote.vue";
import FactList from "../components/FactList.vue";
import HistoryList from "../components/HistoryList.vue";
import StateTag from "../components/StateTag.vue";
import { useEntry, useZone } from "../composables/useQueries";
import { count, moment, size, visible } from "../support/format";
import { isTable } from "../support/tables";

const props = defineProps<{ id: number }>();
const { data: entry, error } = useEntry(() => props.id);
const zone = useZone();

const NOW = {
  unchanged: "the same file",
  changed: "ANOTHER FILE: its size or time is not the entry's",
  missing: "NOTHING: it was taken away",
  unreadable: "it cannot be looked at",
  gone: null,
};
const facts = computed(() => {
  const one = entry.value;
  if (!one) return [];
  return [
    { name: "Location", value: one.location.path ?? "not known any more", code: true },
    { name: "There now", value: NOW[one.location.status] },
    { name: "Came from", value: `${one.drop}/${one.path}`, code: true },
    {
      name: "Packed",
      value: one.packing ? `by ${one.packing}, ${size(one.filed_bytes ?? 0)} there` : null,
    },
    { name: "Size", value: one.bytes < 1024 ? size(one.bytes) : `${size(one.bytes)} (${count(one.bytes)} bytes)` },
    { name: "Modified", value: `${moment(one.modified, zone.value)} ${zone.value}` },
    { name: "SHA-256", value: one.sha256, code: true },
    { name: "Rows", value: one.rows === null ? null : count(one.rows) },
    { name: "Tries", value: one.tries === 0 ? null : count(one.tries) },
  ];
});
const loaded = computed(() => entry.value?.worked_in?.outputs.some((output) => output.has_rows) ?? false);
const fields = computed(() => Object.entries(entry.value?.fields ?? {}).map(([name, value]) => ({ name, value })));
</script>

<template>
  <ErrorNote :error="error" />
  <template v-if="entry">
    <p class="text-sm text-muted">
      Entry {{ entry.id }} of gate
      <RouterLink :to="{ name: 'gate', params: { gate: entry.gate } }" class="link">{{ entry.gate }}</RouterLink>
      ·
      <RouterLink :to="{ name: 'lineage', query: { entry: entry.id } }" class="link">Lineage</RouterLink>
      <template v-if="entry.location.status === 'unchanged'">
        · <a :href="`/api/v1/entries/${entry.id}/file`" download class="link">Download</a>
      </template>
    </p>
    <h1 class="mb-3 flex flex-wrap items-center gap-3 text-xl font-semibold">
      <span class="break-all">{{ visible(entry.path) }}</span><StateTag :word="entry.state" />
    </h1>
    <div v-if="entry.state === 'held'" class="mb-4 rounded-md bg-danger-soft px-3 py-2">
      <p class="font-medium text-danger">Held because {{ visible(entry.reason ?? "no reason was recorded") }}</p>
      <p class="mt-1 text-sm">
        Mend what is wrong and have it worked again, or drop a mended file: it is taken as a new arrival.
      </p>
    </div>
    <EntryActions :entry="entry" :loaded="loaded" class="mb-4" />
    <p v-if="entry.forgotten" class="mb-4 rounded-md bg-quiet-soft px-3 py-2 text-quiet">
      Forgotten: its identity counts no more, and the same content can come again.
    </p>
    <p v-if="entry.revision_of !== null" class="mb-4 rounded-md bg-quiet-soft px-3 py-2 text-quiet">
      A revision:
      <RouterLink :to="{ name: 'entry', params: { id: entry.revision_of } }" class="underline"
        >entry {{ entry.revision_of }}</RouterLink
      >
      of the same name had other content.
    </p>
    <p v-if="entry.made_from" class="mb-4 rounded-md bg-quiet-soft px-3 py-2 text-quiet">
      {{ entry.made_from.role === "member" ? "A member of" : "Made from" }}
      <RouterLink
        v-if="entry.made_from.entry !== null"
        :to="{ name: 'entry', params: { id: entry.made_from.entry } }"
        class="underline"
        >entry {{ entry.made_from.entry }}</RouterLink
      ><template v-else>batch {{ entry.made_from.batch }}</template>
      <template v-if="entry.made_from.path">, {{ visible(entry.made_from.path) }},</template>
      of gate {{ entry.made_from.gate }}.
    </p>
    <p
      v-if="entry.repeat_of !== null && entry.worked_at === null"
      class="mb-4 rounded-md bg-quiet-soft px-3 py-2 text-quiet"
    >
      A repeat of
      <RouterLink :to="{ name: 'entry', params: { id: entry.repeat_of } }" class="underline"
        >entry {{ entry.repeat_of }}</RouterLink
      >: the same content came before, so it was not worked again.
    </p>
    <div class="grid items-start gap-4 lg:grid-cols-5">
      <section class="panel p-4 lg:col-span-2" aria-labelledby="history">
        <h2 id="history" class="mb-3 font-semibold">History</h2>
        <HistoryList :seen-at="entry.seen_at" :history="entry.history" />
      </section>
      <div class="grid gap-4 lg:col-span-3">
        <section class="panel p-4" aria-labelledby="file">
          <h2 id="file" class="mb-3 flex justify-between font-semibold">
            File
            <RouterLink
              v-if="entry.location.path && entry.location.status === 'unchanged' && isTable(entry.name)"
              :to="{ name: 'table', query: { path: entry.location.path } }"
              class="link text-sm font-normal"
              >look inside</RouterLink
            >
          </h2>
          <FactList :facts="facts" />
        </section>
        <section v-if="fields.length > 0" class="panel p-4" aria-labelledby="fields">
          <h2 id="fields" class="mb-3 font-semibold">Fields from its path</h2>
          <FactList :facts="fields" />
        </section>
        <BatchPanel v-if="entry.worked_in" :batch="entry.worked_in" :entry="entry.id" />
      </div>
    </div>
  </template>
</template>
