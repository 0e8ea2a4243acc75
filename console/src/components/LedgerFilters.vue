<script setup lang="ts">
import { computed } from "vue";
import { useGates } from "../composables/useQueries";
import { type Filter, PERIODS } from "../support/ledger";
import { ENTRY_STATES } from "../support/types";
import ColumnPick from "./ColumnPick.vue";
import PickList from "./PickList.vue";

/** What is searched for in the ledger. */
defineProps<{ fields: string[] }>();
const filter = defineModel<Filter>({ required: true });
const { data: gates } = useGates();
const gateChoices = computed(() => [
  { value: "", name: "all" },
  ...(gates.value ?? []).map(({ name }) => ({ value: name, name })),
]);
const stateChoices = [{ value: "", name: "all" }, ...ENTRY_STATES.map((state) => ({ value: state, name: state }))];
</script>

<template>
  <form class="mb-4 flex flex-wrap items-center gap-2" role="search" @submit.prevent>
    <input
      v-model.trim.lazy="filter.text"
      type="search"
      class="field min-w-56 flex-1"
      placeholder="Part of a path, or of a SHA-256"
      aria-label="Search the ledger"
    />
    <input
      v-model.trim.lazy="filter.field"
      class="field w-44"
      placeholder="station=ullin-bay"
      aria-label="Fields with their values, as NAME=VALUE, separated by commas"
      autocomplete="off"
      spellcheck="false"
    />
    <PickList v-model="filter.gate" label="Gate" :choices="gateChoices" />
    <PickList v-model="filter.state" label="State" :choices="stateChoices" />
    <PickList v-model="filter.period" label="Entered" :choices="PERIODS" />
    <template v-if="filter.period === 'days'">
      <label class="flex items-center gap-1.5 text-sm text-muted"
        >from <input v-model.lazy="filter.from" type="date" class="field"
      /></label>
      <label class="flex items-center gap-1.5 text-sm text-muted"
        >to <input v-model.lazy="filter.to" type="date" class="field"
      /></label>
    </template>
    <label class="button"><input v-model="filter.repeats" type="checkbox" class="accent-accent" />Only repeats</label>
    <ColumnPick v-if="fields.length > 0" v-model="filter.columns" :fields="fields" />
  </form>
</template>
