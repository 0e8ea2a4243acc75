<script setup lang="ts">
import { computed } from "vue";
import { RouterLink } from "vue-router";
import { useChanges, useEntries } from "../composables/useQueries";
import ChangeList from "./ChangeList.vue";
import EmptyNote from "./EmptyNote.vue";
import HeldList from "./HeldList.vue";

/** What is held at any gate, and what happened last. */
const { data: changes } = useChanges(12);
const { data: held } = useEntries({ state: "held" }, { limit: 8 });
const heldEntries = computed(() => held.value?.pages.flatMap((page) => page.entries) ?? []);
</script>

<template>
  <div class="grid gap-4 xl:grid-cols-2">
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
