<script setup lang="ts">
import { RouterLink } from "vue-router";
import { count, visible } from "../support/format";
import type { Gate } from "../support/types";
import StateTag from "./StateTag.vue";
import TimeAgo from "./TimeAgo.vue";

/** Many gates, a row each; figures lead to what they count. */
defineProps<{ gates: Gate[]; caption: string }>();
const FIGURES = [
  { name: "Arriving", of: (gate: Gate) => gate.counts.arriving ?? 0, state: null },
  { name: "Waiting", of: (gate: Gate) => gate.counts.ready ?? 0, state: "ready" },
  { name: "Filed today", of: (gate: Gate) => gate.filed_today, state: "filed" },
  { name: "Held", of: (gate: Gate) => gate.counts.held ?? 0, state: "held" },
];
const leads = (gate: Gate, state: string | null) =>
  state === null
    ? { name: "gate", params: { gate: gate.name } }
    : { name: "ledger", query: { gate: gate.name, state } };
</script>

<template>
  <div class="overflow-x-auto">
    <table class="w-full text-sm">
      <caption class="sr-only">
        {{
          caption
        }}
      </caption>
      <thead class="border-b border-line text-xs text-muted">
        <tr>
          <th class="cell" scope="col">Gate</th>
          <th class="cell" scope="col">State</th>
          <th v-for="figure in FIGURES" :key="figure.name" class="cell text-right" scope="col">{{ figure.name }}</th>
          <th class="cell max-md:hidden" scope="col">Last arrival</th>
          <th class="cell w-2/5 max-lg:hidden" scope="col">What it does, and what is wrong</th>
        </tr>
      </thead>
      <tbody class="divide-y divide-line">
        <tr v-for="gate in gates" :key="gate.name" :data-gate="gate.name" class="hover:bg-raised">
          <th class="cell font-medium" scope="row">
            <RouterLink :to="{ name: 'gate', params: { gate: gate.name } }" class="link">{{ gate.name }}</RouterLink>
          </th>
          <td class="cell"><StateTag :word="gate.state" /></td>
          <td v-for="figure in FIGURES" :key="figure.name" class="cell text-right">
            <RouterLink
              v-if="figure.of(gate) > 0"
              :to="leads(gate, figure.state)"
              class="link"
              :class="{ 'text-danger': figure.name === 'Held' }"
              >{{ count(figure.of(gate)) }}</RouterLink
            >
            <span v-else class="text-muted">0</span>
          </td>
          <td class="cell max-md:hidden"><TimeAgo :at="gate.last_arrival" /></td>
          <td class="cell text-muted [overflow-wrap:anywhere] max-lg:hidden">
            <span v-if="gate.state === 'troubled'" class="text-danger">{{ visible(gate.problems.join("; ")) }}</span>
            <template v-else>{{ gate.doing ? visible(gate.doing) : gate.work_does }}</template>
          </td>
        </tr>
      </tbody>
    </table>
  </div>
</template>
