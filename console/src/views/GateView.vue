<script setup lang="ts">
import { computed } from "vue";
import { RouterLink } from "vue-router";
import ActivityChart from "../components/ActivityChart.vue";
import DropFolder from "../components/DropFolder.vue";
import EmptyNote from "../components/EmptyNote.vue";
import EntryTable from "../components/EntryTable.vue";
import ErrorNote from "../components/ErrorNote.vue";
import FactList from "../components/FactList.vue";
import FetchPanel from "../components/FetchPanel.vue";
import GateActions from "../components/GateActions.vue";
import GateFigures from "../components/GateFigures.vue";
import GateNotes from "../components/GateNotes.vue";
import GateProblems from "../components/GateProblems.vue";
import HandIn from "../components/HandIn.vue";
import OpenBatches from "../components/OpenBatches.vue";
import PatternTester from "../components/PatternTester.vue";
import RehearsalPanel from "../components/RehearsalPanel.vue";
import StateTag from "../components/StateTag.vue";
import { useMay } from "../composables/useMe";
import { useEntries, useGate } from "../composables/useQueries";
import { useSpan } from "../composables/useSpan";
import { bars } from "../support/chart";

const props = defineProps<{ gate: string }>();
const { data: view, error } = useGate(() => props.gate);
const operator = useMay("operator");
const { activity, minutes } = useSpan();
const newest = useEntries(() => ({ gate: props.gate }), { limit: 10 });
const entries = computed(() => newest.data.value?.pages.flatMap((page) => page.entries) ?? []);

const facts = computed(() => {
  const gate = view.value;
  if (!gate) return [];
  const work = gate.work === "none" ? "none: it only files" : gate.work;
  return [
    { name: "Drop folder", value: gate.drop, code: true },
    { name: "Takes", value: gate.take.join("\n"), code: true },
    { name: "Complete", value: gate.settle },
    { name: "Order", value: gate.order },
    { name: "Work", value: work },
    { name: gate.work_label ?? "Output", value: gate.work_detail, code: true },
    { name: "Archive", value: gate.archive ?? "worked files stay where they are", code: gate.archive !== null },
    { name: "Watched by", value: gate.watching },
    { name: "Doing", value: gate.doing ?? "at rest" },
  ];
});
</script>

<template>
  <ErrorNote :error="error" />
  <template v-if="view">
    <div class="mb-4 flex flex-wrap items-center justify-between gap-3">
      <h1 class="flex items-center gap-3 text-2xl font-semibold">{{ view.name }} <StateTag :word="view.state" /></h1>
      <GateActions :gate="view" />
    </div>
    <GateProblems :problems="view.problems" class="mb-4" />
    <div class="mb-4 grid gap-4 lg:grid-cols-5">
      <section class="panel p-4 lg:col-span-3" aria-label="Rules">
        <FactList :facts="facts" />
      </section>
      <section class="panel space-y-4 p-4 lg:col-span-2" aria-label="Figures">
        <GateNotes :gate="view" />
        <GateFigures :gate="view" />
        <ActivityChart :bars="bars(activity, view.name)" :minutes="minutes" />
      </section>
    </div>
    <FetchPanel v-if="view.fetch" :key="view.name" :fetch="view.fetch" :gate="view.name" class="mb-4" />
    <OpenBatches v-if="view.open_batches.length > 0" :batches="view.open_batches" class="mb-4" />
    <RehearsalPanel :gate="view.name" class="mb-4" />
    <DropFolder :gate="view.name" class="mb-4" />
    <HandIn v-if="operator" :key="view.name" :gate="view.name" class="mb-4" />
    <PatternTester :key="view.name" :gate="view.name" :patterns="view.take" class="mb-4" />
    <section class="panel min-w-0" aria-labelledby="newest">
      <h2 id="newest" class="flex justify-between border-b border-line px-4 py-2.5 font-semibold">
        Newest entries
        <RouterLink :to="{ name: 'ledger', query: { gate: view.name } }" class="link text-sm font-normal">
          all in the ledger
        </RouterLink>
      </h2>
      <EntryTable v-if="entries.length > 0" :entries="entries" caption="Newest entries" />
      <EmptyNote v-else title="No entry yet.">A file is entered when it has settled.</EmptyNote>
    </section>
  </template>
</template>
