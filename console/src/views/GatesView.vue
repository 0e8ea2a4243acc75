<script setup lang="ts">
import { computed, ref, watch } from "vue";
import { RouterLink } from "vue-router";
import EmptyNote from "../components/EmptyNote.vue";
import ErrorNote from "../components/ErrorNote.vue";
import GateCard from "../components/GateCard.vue";
import GateTable from "../components/GateTable.vue";
import HeldAndLatest from "../components/HeldAndLatest.vue";
import PickList from "../components/PickList.vue";
import { useMay } from "../composables/useMe";
import { useGates } from "../composables/useQueries";
import { useSpan } from "../composables/useSpan";
import { barsByGate, barsOf } from "../support/chart";
import { counted } from "../support/format";
import { arranged } from "../support/gates";

const { data: gates, error } = useGates();
const admin = useMay("admin");
const { span, activity, minutes } = useSpan();
const ofGates = computed(() => barsByGate(activity.value));
const words = ref("");
const groups = computed(() => arranged(gates.value ?? [], words.value));

/** Cards tell more of few gates, a table of many; what is chosen is remembered. */
const KEY = "vadegate.gates";
const FEW = 24;
const chosen = ref(localStorage.getItem(KEY));
watch(chosen, (now) => now && localStorage.setItem(KEY, now));
const view = computed<"cards" | "table">({
  get: () =>
    chosen.value === "cards" || chosen.value === "table"
      ? chosen.value
      : (gates.value?.length ?? 0) > FEW
        ? "table"
        : "cards",
  set: (now) => {
    chosen.value = now;
  },
});
const heldCount = computed(() => sum((gate) => gate.counts.held ?? 0));
const troubled = computed(() => sum((gate) => (gate.state === "troubled" ? 1 : 0)));
function sum(of: (gate: NonNullable<typeof gates.value>[number]) => number) {
  return (gates.value ?? []).reduce((total, gate) => total + of(gate), 0);
}
const trouble = computed(() => {
  const parts: string[] = [];
  if (heldCount.value > 0) parts.push(`${heldCount.value} held`);
  if (troubled.value > 0) parts.push(`${counted(troubled.value, "gate")} in trouble`);
  return parts.join(", ");
});
</script>

<template>
  <div class="mb-4 flex flex-wrap items-end justify-between gap-3">
    <div>
      <h1 class="text-2xl font-semibold">Gates</h1>
      <p v-if="gates" class="text-sm text-muted">
        {{
          counted(
            sum((gate) => gate.filed_today),
            "file",
          )
        }}
        filed today,
        <span v-if="trouble" class="font-medium text-danger">{{ trouble }}</span>
        <template v-else>nothing held, no trouble</template>
      </p>
    </div>
    <div v-if="gates && gates.length > 0" class="flex flex-wrap items-center gap-2">
      <RouterLink v-if="admin" :to="{ name: 'new-gate' }" class="button">New gate …</RouterLink>
      <input
        v-model="words"
        type="search"
        class="field w-56"
        placeholder="Find a gate"
        aria-label="Find a gate"
        autocomplete="off"
      />
      <PickList
        v-model="view"
        label="Show"
        :choices="[
          { value: 'cards', name: 'cards' },
          { value: 'table', name: 'a table' },
        ]"
      />
      <PickList
        v-if="view === 'cards'"
        v-model="span"
        label="Charts"
        :choices="[
          { value: 'day', name: 'last 24 hours' },
          { value: 'lately', name: 'last 2 hours' },
        ]"
      />
    </div>
  </div>
  <ErrorNote :error="error" />
  <template v-if="gates && gates.length > 0">
    <p v-if="groups.length === 0" class="panel p-4 text-sm">No gate has these words.</p>
    <section
      v-for="group in groups"
      :key="group.name"
      class="mb-4"
      :aria-label="group.name === '' ? 'Gates of no group' : `Gates of ${group.name}`"
    >
      <h2 v-if="group.name !== ''" class="mb-2 text-lg font-semibold">{{ group.name }}</h2>
      <h2 v-else-if="groups.length > 1" class="mb-2 text-lg font-semibold text-muted">Of no group</h2>
      <div v-if="view === 'table'" class="panel min-w-0">
        <GateTable :gates="group.gates" :caption="group.name === '' ? 'Gates' : `Gates of ${group.name}`" />
      </div>
      <div v-else class="grid gap-4 md:grid-cols-2 xl:grid-cols-3">
        <GateCard
          v-for="gate in group.gates"
          :key="gate.name"
          class="[contain-intrinsic-size:auto_20rem] [content-visibility:auto]"
          :gate="gate"
          :bars="barsOf(ofGates, gate.name)"
          :minutes="minutes"
        />
      </div>
    </section>
  </template>
  <section v-else-if="gates" class="panel">
    <EmptyNote title="The configuration has no gate.">
      <RouterLink v-if="admin" :to="{ name: 'new-gate' }" class="link">Make one from a folder</RouterLink>
      <template v-else>An administrator makes one from a folder, on this page.</template>
    </EmptyNote>
  </section>

  <HeldAndLatest v-if="gates && gates.length > 0" class="mt-4" />
</template>
