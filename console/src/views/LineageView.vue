<script setup lang="ts">
import { computed } from "vue";
import { RouterLink } from "vue-router";
import EmptyNote from "../components/EmptyNote.vue";
import ErrorNote from "../components/ErrorNote.vue";
import FamilyPicture from "../components/FamilyPicture.vue";
import { useFamily } from "../composables/useOutputs";
import { visible } from "../support/format";

/** From which files an entry or an output came, and what came of it. */
const props = defineProps<{ entry: number | null; output: string }>();
const { data, error } = useFamily(() => ({ entry: props.entry, output: props.output }));
const of = computed(() => (props.entry === null ? `output ${props.output}` : `entry ${props.entry}`));
</script>

<template>
  <h1 class="text-2xl font-semibold">Lineage</h1>
  <p class="mb-3 text-sm break-all text-muted">
    of
    <RouterLink v-if="entry !== null" :to="{ name: 'entry', params: { id: entry } }" class="link"
      >entry {{ entry }}</RouterLink
    >
    <RouterLink v-else :to="{ name: 'table', query: { path: output } }" class="link">{{ visible(output) }}</RouterLink>
  </p>
  <ErrorNote :error="error" />
  <p v-if="!data && !error" class="text-muted" role="status">Following what came from what …</p>
  <section v-if="data" class="panel min-w-0" aria-label="Lineage">
    <EmptyNote v-if="data.members.length === 0" title="Nothing is known of it.">
      The ledger has no such entry, and nothing was ever written there.
    </EmptyNote>
    <FamilyPicture v-else :family="data" :of="of" />
    <p v-if="data.more" class="border-t border-line px-4 py-2 text-sm text-muted">
      There is more: of each work the first files, of each output the newest batches are shown.
      <RouterLink v-if="entry === null" :to="{ name: 'ledger', query: { output } }" class="link"
        >All files that are in it</RouterLink
      >
    </p>
  </section>
</template>
