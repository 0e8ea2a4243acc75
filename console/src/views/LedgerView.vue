<script setup lang="ts">
import { computed, ref, watch } from "vue";
import { RouterLink, useRoute, useRouter } from "vue-router";
import EmptyNote from "../components/EmptyNote.vue";
import EntryTable from "../components/EntryTable.vue";
import ErrorNote from "../components/ErrorNote.vue";
import ManyActions from "../components/ManyActions.vue";
import PickList from "../components/PickList.vue";
import { useEntries, useGates } from "../composables/useQueries";
import { counted } from "../support/format";
import { type Filter, PERIODS, toFilter, toQuery, toRoute } from "../support/ledger";
import { ENTRY_STATES } from "../support/types";

// The address holds what is searched for, so that it can be sent to somebody.
const route = useRoute();
const router = useRouter();
const filter = ref<Filter>(toFilter(route.query));
watch(
  () => route.query,
  (query) => {
    filter.value = toFilter(query);
  },
);
watch(filter, (value) => void router.replace({ query: toRoute(value) }), { deep: true });

const { data: gates } = useGates();
const query = computed(() => toQuery(filter.value, Date.now()));
const { data, error, hasNextPage, fetchNextPage, isFetchingNextPage } = useEntries(query);
const entries = computed(() => data.value?.pages.flatMap((page) => page.entries) ?? []);
const gateChoices = computed(() => [
  { value: "", name: "all" },
  ...(gates.value ?? []).map(({ name }) => ({ value: name, name })),
]);
const stateChoices = [{ value: "", name: "all" }, ...ENTRY_STATES.map((state) => ({ value: state, name: state }))];
const filtered = computed(() => Object.keys(toRoute(filter.value)).length > 0);
</script>

<template>
  <h1 class="mb-3 text-2xl font-semibold">Ledger</h1>
  <form class="mb-4 flex flex-wrap items-center gap-2" role="search" @submit.prevent>
    <input
      v-model.trim.lazy="filter.text"
      type="search"
      class="field min-w-56 flex-1"
      placeholder="Part of a path, or the beginning of a SHA-256"
      aria-label="Search the ledger"
    />
    <PickList v-model="filter.gate" label="Gate" :choices="gateChoices" />
    <PickList v-model="filter.state" label="State" :choices="stateChoices" />
    <PickList v-model="filter.period" label="Entered" :choices="PERIODS" />
    <label class="button"><input v-model="filter.repeats" type="checkbox" class="accent-accent" />Only repeats</label>
  </form>
  <p v-if="filter.output !== ''" class="mb-4 flex flex-wrap items-center gap-2 text-sm">
    <span class="text-muted">Only files that are in</span>
    <RouterLink :to="{ name: 'table', query: { path: filter.output } }" class="link font-mono text-xs break-all">{{
      filter.output
    }}</RouterLink>
    <button class="button" @click="filter.output = ''">All files</button>
  </p>
  <ErrorNote :error="error" />
  <section class="panel min-w-0" aria-label="Entries">
    <ManyActions v-if="filter.state !== ''" :state="filter.state" :fitting="query" :any="entries.length > 0" />
    <EntryTable v-if="entries.length > 0" :entries="entries" caption="Entries, newest first" />
    <EmptyNote v-else-if="data && filtered" title="No entry is so.">
      Search for less, or for another gate, state or time.
    </EmptyNote>
    <EmptyNote v-else-if="data" title="The ledger is empty.">
      Every file gets an entry here once it has settled at its gate.
    </EmptyNote>
    <div
      v-if="entries.length > 0"
      class="flex items-center justify-between border-t border-line px-4 py-2 text-sm text-muted"
    >
      <span>{{ counted(entries.length, "entry", "entries") }} shown, newest first</span>
      <button v-if="hasNextPage" class="button" :disabled="isFetchingNextPage" @click="fetchNextPage()">
        {{ isFetchingNextPage ? "Reading …" : "Show more" }}
      </button>
    </div>
  </section>
</template>
