<script setup lang="ts">
import { computed } from "vue";
import { useNow } from "../composables/useNow";
import { useGates, useZone } from "../composables/useQueries";
import { type Filter, lastDays, PERIODS } from "../support/ledger";
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
// The last days by their names, beside spans and free choice.
const zone = useZone();
const now = useNow();
const days = computed(() => lastDays(now.value, zone.value));
const times = computed(() => [...PERIODS.slice(0, -1), ...days.value, PERIODS.at(-1)!]);
const entered = computed<string>({
  get: () => {
    const { period, from, to } = filter.value;
    const named = period === "days" && from === to && days.value.some(({ value }) => value === from);
    return named ? from : period;
  },
  set: (value) => {
    const period = PERIODS.find((one) => one.value === value)?.value;
    filter.value =
      period === undefined
        ? { ...filter.value, period: "days", from: value, to: value }
        : { ...filter.value, period, from: "", to: "" };
  },
});
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
    <PickList v-model="entered" label="Entered" :choices="times" />
    <template v-if="entered === 'days'">
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
