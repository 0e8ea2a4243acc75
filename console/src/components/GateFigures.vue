<script setup lang="ts">
import { computed } from "vue";
import { RouterLink } from "vue-router";
import { count } from "../support/format";
import type { Gate } from "../support/types";

/** What is at a gate, in six figures. Held is loud only when there are some. */
const props = defineProps<{ gate: Gate }>();
const of = (...states: (keyof Gate["counts"])[]) =>
  states.reduce((sum, state) => sum + (props.gate.counts[state] ?? 0), 0);
const figures = computed(() => [
  { name: "Arriving", value: of("arriving"), hint: "not complete yet" },
  { name: "Waiting", value: of("ready"), state: "ready", hint: "settled, and waiting for work" },
  { name: "Working", value: of("working", "worked"), hint: "being worked or filed" },
  { name: "Filed today", value: props.gate.filed_today, state: "filed", hint: "repeats counted too" },
  { name: "Repeats today", value: props.gate.repeats_today, state: "repeat", hint: "never worked again" },
  { name: "Held", value: of("held"), state: "held", hint: "set aside for a person" },
]);
</script>

<template>
  <dl class="grid grid-cols-3 gap-x-3 gap-y-2">
    <div v-for="figure in figures" :key="figure.name" :title="figure.hint">
      <dt class="label">{{ figure.name }}</dt>
      <dd
        class="text-xl font-semibold"
        :class="figure.value === 0 ? 'text-muted' : figure.name === 'Held' ? 'text-danger' : ''"
      >
        <RouterLink
          v-if="figure.state && figure.value > 0"
          :to="{ name: 'ledger', query: { gate: gate.name, state: figure.state } }"
          class="hover:underline"
          >{{ count(figure.value) }}</RouterLink
        >
        <template v-else>{{ count(figure.value) }}</template>
      </dd>
    </div>
  </dl>
</template>
