<script setup lang="ts">
import { computed, ref, watch } from "vue";
import { RouterLink, useRoute, useRouter } from "vue-router";
import EmptyNote from "../components/EmptyNote.vue";
import ErrorNote from "../components/ErrorNote.vue";
import LedgerFilters from "../components/LedgerFilters.vue";
import LedgerTable from "../components/LedgerTable.vue";
import ManyActions from "../components/ManyActions.vue";
import { useLedger } from "../composables/useLedger";
import { withQuery } from "../support/api";
import { fieldsOf } from "../support/entries";
import { count, counted, size } from "../support/format";
import { type Filter, isFiltered, toFilter, toOrder, toRoute } from "../support/ledger";

// The address holds what is searched for, so that it can be sent to somebody.
const route = useRoute();
const router = useRouter();
const filter = ref<Filter>(toFilter(route.query));
watch(
  () => route.query,
  (query) => {
    if (JSON.stringify(toRoute(filter.value)) !== JSON.stringify(query)) filter.value = toFilter(query);
  },
);
watch(filter, (value) => void router.replace({ query: toRoute(value) }), { deep: true });

const { entries, data, error, hasNextPage, isFetching, fetchNextPage, newer, top, begin, total, totalError, question } =
  useLedger(filter);
const fields = computed(() => [...new Set([...fieldsOf(entries.value), ...filter.value.columns])]);
const more = () => {
  if (hasNextPage.value && !isFetching.value) void fetchNextPage();
};
/** Made when it is pressed, so that the spans are those of that moment. */
function save(event: MouseEvent, form: "csv" | "jsonl") {
  const link = event.currentTarget as HTMLAnchorElement;
  link.href = withQuery(`/api/v1/entries.${form}`, { ...question(), ...toOrder(filter.value) });
}
</script>

<template>
  <h1 class="mb-3 text-2xl font-semibold">Ledger</h1>
  <LedgerFilters v-model="filter" :fields="fields" />
  <p v-if="filter.output !== ''" class="mb-4 flex flex-wrap items-center gap-2 text-sm">
    <span class="text-muted">Only files that are in</span>
    <RouterLink :to="{ name: 'table', query: { path: filter.output } }" class="link font-mono text-xs break-all">{{
      filter.output
    }}</RouterLink>
    <button class="button" @click="filter.output = ''">All files</button>
  </p>
  <ErrorNote :error="error ?? totalError" />
  <section class="panel min-w-0" aria-label="Entries">
    <ManyActions v-if="filter.state !== ''" :state="filter.state" :fitting="question" :any="entries.length > 0" />
    <p v-if="newer > 0" class="border-b border-line px-4 py-2 text-center" role="status">
      <button class="button button-main" @click="begin">
        {{ count(newer) }} new: show {{ newer === 1 ? "it" : "them" }}
      </button>
    </p>
    <LedgerTable v-if="entries.length > 0" v-model:filter="filter" :entries="entries" :begun="top" @end="more" />
    <EmptyNote v-else-if="data && isFiltered(filter)" title="No entry is so.">
      Search for less, or for another gate, state or time.
    </EmptyNote>
    <EmptyNote v-else-if="data" title="The ledger is empty.">
      Every file gets an entry here once it has settled at its gate.
    </EmptyNote>
    <p v-else-if="!error" class="px-4 py-8 text-center text-muted" role="status">Reading the ledger …</p>
    <div
      v-if="entries.length > 0"
      class="flex flex-wrap items-center justify-between gap-2 border-t border-line px-4 py-2 text-sm text-muted"
    >
      <span role="status">
        <template v-if="total">{{ counted(total.entries, "entry", "entries") }}</template>
        <template v-else>counting …</template>
        <template v-if="total && total.bytes !== null">, {{ size(total.bytes) }}</template>
        <template v-if="hasNextPage"> · {{ count(entries.length) }} read so far</template>
      </span>
      <span class="flex gap-2"
        >Save all as
        <a class="link" href="/api/v1/entries.csv" download="entries.csv" @click="save($event, 'csv')">CSV</a>
        <a class="link" href="/api/v1/entries.jsonl" download="entries.jsonl" @click="save($event, 'jsonl')"
          >JSON Lines</a
        ></span
      >
    </div>
  </section>
</template>
