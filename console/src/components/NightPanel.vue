<script setup lang="ts">
import { computed } from "vue";
import { RouterLink } from "vue-router";
import { useNow } from "../composables/useNow";
import { useActivity } from "../composables/useQueries";
import { count } from "../support/format";
import { night } from "../support/night";
import ActivityChart from "./ActivityChart.vue";

/** What the last day did, over all gates, beside the day before. */
const { data } = useActivity({ hours: 48, minutes: 60 });
const now = useNow();
// Minute by minute: there may be thousands of pieces to add up.
const minute = computed(() => Math.floor(now.value / 60_000) * 60_000);
const told = computed(() => night(data.value ?? [], minute.value));
const to = (state: string) => ({
  name: "ledger",
  query: { entered: "24h", ...(state === "repeat" ? { repeats: "true" } : state === "" ? {} : { state }) },
});
</script>

<template>
  <section v-if="data" class="panel min-w-0 p-4" aria-labelledby="night">
    <h2 id="night" class="mb-2 font-semibold">The last 24 hours</h2>
    <dl class="mb-3 flex flex-wrap gap-x-8 gap-y-2">
      <div v-for="figure in told.figures" :key="figure.name">
        <dt class="label">{{ figure.name }}</dt>
        <dd class="flex items-baseline gap-2">
          <RouterLink
            v-if="figure.now > 0"
            :to="to(figure.state)"
            class="link text-lg font-semibold"
            :class="{ 'text-danger': figure.name === 'held' }"
            >{{ count(figure.now) }}</RouterLink
          >
          <span v-else class="text-lg font-semibold">0</span>
          <span class="text-xs text-muted">{{ count(figure.before) }} the day before</span>
        </dd>
      </div>
    </dl>
    <ActivityChart v-if="told.bars.length > 0" :bars="told.bars" :minutes="60" />
  </section>
</template>
