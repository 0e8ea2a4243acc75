<script setup lang="ts">
import { RouterLink } from "vue-router";
import type { Bar } from "../support/chart";
import type { Gate } from "../support/types";
import ActivityChart from "./ActivityChart.vue";
import GateFigures from "./GateFigures.vue";
import GateNotes from "./GateNotes.vue";
import GateProblems from "./GateProblems.vue";
import StateTag from "./StateTag.vue";
import TimeAgo from "./TimeAgo.vue";

defineProps<{ gate: Gate; bars: Bar[]; minutes: number }>();
</script>

<template>
  <article class="panel flex flex-col gap-3 p-4" :data-gate="gate.name">
    <header class="flex items-start justify-between gap-2">
      <div class="min-w-0">
        <h2 class="truncate text-lg leading-tight font-semibold">
          <RouterLink :to="{ name: 'gate', params: { gate: gate.name } }" class="link text-text">
            {{ gate.name }}
          </RouterLink>
        </h2>
        <p class="text-sm text-muted">{{ gate.work_does }}</p>
      </div>
      <StateTag :word="gate.state" />
    </header>
    <GateProblems :problems="gate.state === 'troubled' ? gate.problems : []" />
    <GateNotes :gate="gate" />
    <GateFigures :gate="gate" />
    <ActivityChart :bars="bars" :minutes="minutes" />
    <footer class="mt-auto flex justify-between gap-3 border-t border-line pt-2 text-xs text-muted">
      <span class="truncate" :title="gate.doing ?? undefined">{{ gate.doing ?? "at rest" }}</span>
      <span class="whitespace-nowrap">last arrival <TimeAgo :at="gate.last_arrival" /></span>
    </footer>
  </article>
</template>
