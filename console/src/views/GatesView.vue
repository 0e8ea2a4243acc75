<script setup lang="ts">
import { computed } from "vue";
import { RouterLink } from "vue-router";
import ChangeList from "../components/ChangeList.vue";
import EmptyNote from "../components/EmptyNote.vue";
import ErrorNote from "../components/ErrorNote.vue";
import GateCard from "../components/GateCard.vue";
import HeldList from "../components/HeldList.vue";
import PickList from "../components/PickList.vue";
import { useChanges, useEntries, useGates } from "../composables/useQueries";
import { useSpan } from "../composables/useSpan";
import { bars } from "../support/chart";
import { counted } from "../support/format";

const { data: gates, error } = useGates();
const { span, activity, minutes } = useSpan();
const { data: changes } = useChanges(12);
const { data: held } = useEntries({ state: "held" }, { limit: 8 });
const heldEntries = computed(() => held.value?.pages.flatMap((page) => page.entries) ?? []);

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
    <PickList
      v-if="gates && gates.length > 0"
      v-model="span"
      label="Charts"
      :choices="[
        { value: 'day', name: 'last 24 hours' },
        { value: 'lately', name: 'last 2 hours' },
      ]"
    />
  </div>
  <ErrorNote :error="error" />
  <div v-if="gates && gates.length > 0" class="grid gap-4 md:grid-cols-2 xl:grid-cols-3">
    <GateCard
      v-for="gate in gates"
      :key="gate.name"
      :gate="gate"
      :bars="bars(activity, gate.name)"
      :minutes="minutes"
    />
  </div>
  <section v-else-if="gates" class="panel">
    <EmptyNote title="The configuration has no gate.">
      Add one as <code>[gate.NAME]</code>, or have one written for a folder with <code>vadegate init FOLDER</code>, and
      start the service again.
    </EmptyNote>
  </section>

  <div v-if="gates && gates.length > 0" class="mt-4 grid gap-4 xl:grid-cols-2">
    <section class="panel min-w-0" aria-labelledby="held">
      <h2 id="held" class="flex justify-between border-b border-line px-4 py-2.5 font-semibold">
        Held, for a person
        <RouterLink :to="{ name: 'ledger', query: { state: 'held' } }" class="link text-sm font-normal"
          >all held</RouterLink
        >
      </h2>
      <HeldList v-if="heldEntries.length > 0" :entries="heldEntries" />
      <EmptyNote v-else title="Nothing is held.">
        A file that cannot be worked is set aside here, with the reason.
      </EmptyNote>
    </section>
    <section class="panel min-w-0" aria-labelledby="latest">
      <h2 id="latest" class="border-b border-line px-4 py-2.5 font-semibold">What happened last</h2>
      <ChangeList v-if="changes && changes.length > 0" :changes="changes" />
      <EmptyNote v-else title="Nothing has happened yet.">
        Drop a file into a gate's folder; it appears here when it has settled.
      </EmptyNote>
    </section>
  </div>
</template>
