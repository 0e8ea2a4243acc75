<script setup lang="ts">
import { computed, ref, watch } from "vue";
import { useNow } from "../composables/useNow";
import { useRouter } from "vue-router";
import DueCellPanel from "../components/DueCellPanel.vue";
import DueGrid from "../components/DueGrid.vue";
import EmptyNote from "../components/EmptyNote.vue";
import ErrorNote from "../components/ErrorNote.vue";
import MorningNeeds from "../components/MorningNeeds.vue";
import NightPanel from "../components/NightPanel.vue";
import { useBoard, useDueCells, useDues, useZone } from "../composables/useQueries";
import { DUE_STATES, daysBefore } from "../support/dues";
import { count, counted, moment } from "../support/format";
import type { DueCell } from "../support/types";

const props = defineProps<{ due: string }>();
const router = useRouter();
const zone = useZone();
const { data: board, error, dataUpdatedAt } = useBoard();
const now = useNow();
/** What was true a while ago says nothing of now: it is not shown as if it did. */
const OLD_MS = 45_000;
const stale = computed(() => board.value !== undefined && now.value - dataUpdatedAt.value > OLD_MS);
const told = computed(() => {
  const one = board.value;
  if (!one) return "";
  const at = moment(one.at, zone.value);
  if (stale.value) return `This was so at ${at}.`;
  const excused = one.excused > 0 ? `, ${count(one.excused)} excused` : "";
  return `As of ${at}: ${counted(one.here, "expected file")} here, ${count(one.expected)} still to come${excused}.`;
});
const { data: dues } = useDues();
const DAYS = 14;

/** The rule that is shown: the one that is asked for, else the first that needs a person. */
const name = computed(() => {
  const all = dues.value ?? [];
  const needs = all.find((one) => one.today.some(({ state }) => ["missing", "late"].includes(state)));
  return all.find((one) => one.name === props.due)?.name ?? needs?.name ?? all[0]?.name ?? "";
});
const rule = computed(() => dues.value?.find((one) => one.name === name.value));
const today = computed(() => new Intl.DateTimeFormat("en-CA", { timeZone: zone.value }).format(new Date()));
const days = computed(() => ({ since: daysBefore(today.value, DAYS - 1), until: today.value }));
const { data: cells, error: failed } = useDueCells(name, days);
const chosen = ref<DueCell | null>(null);
watch(name, () => (chosen.value = null));
const shown = computed(
  () => cells.value?.find((cell) => cell.day === chosen.value?.day && cell.value === chosen.value.value) ?? null,
);
const choose = (due: string) => router.replace({ name: "morning", query: { due } });
</script>

<template>
  <div class="mb-4">
    <h1 class="text-2xl font-semibold">Morning</h1>
    <p v-if="board" class="text-sm">
      <span v-if="stale" class="font-medium text-wait">Nobody knows: the service does not answer.</span>
      <span v-else-if="board.needs_a_person" class="font-medium text-danger">Something needs a person.</span>
      <span v-else class="font-medium text-good">Nothing needs a person.</span>
      <span class="ml-1 text-muted">{{ told }}</span>
    </p>
  </div>
  <ErrorNote :error="error ?? failed" />
  <div class="grid items-start gap-4 lg:grid-cols-[3fr_2fr]">
    <div class="grid min-w-0 gap-4">
      <section v-if="dues" class="panel min-w-0" aria-labelledby="expected">
        <h2 id="expected" class="border-b border-line px-4 py-2.5 font-semibold">Expected</h2>
        <EmptyNote v-if="dues.length === 0" title="Nothing is expected.">
          A <span class="font-mono">[due.NAME]</span> section of the configuration says which files come by when;
          <span class="font-mono">vadegate due --learn GATE</span> proposes one.
        </EmptyNote>
        <template v-else>
          <div class="flex flex-wrap gap-2 px-4 pt-3" role="group" aria-label="Rules">
            <button
              v-for="one in dues"
              :key="one.name"
              class="button"
              :class="one.name === name ? 'bg-raised' : ''"
              :aria-pressed="one.name === name"
              @click="choose(one.name)"
            >
              {{ one.name }}
              <span
                v-for="part in one.today"
                :key="part.state"
                class="ml-1 rounded-full px-1.5 text-xs"
                :class="DUE_STATES[part.state].tone"
                >{{ part.count }} {{ DUE_STATES[part.state].word }}</span
              >
            </button>
          </div>
          <p v-if="rule" class="px-4 pt-2 text-sm text-muted">{{ rule.words }}; the last {{ DAYS }} days</p>
          <DueGrid v-if="cells && cells.length > 0" v-model="chosen" :cells="cells" :each="rule?.each ?? null" />
          <EmptyNote v-else-if="cells" title="Nothing was expected in these days.">
            Before the first file of a gate nothing is expected of it.
          </EmptyNote>
          <DueCellPanel v-if="shown" :cell="shown" @excused="(cell) => (chosen = cell)" />
        </template>
      </section>
      <NightPanel />
    </div>
    <MorningNeeds v-if="board" :board="board" class="max-lg:order-first" />
  </div>
</template>
