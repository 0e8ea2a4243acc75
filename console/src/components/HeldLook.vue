<script setup lang="ts">
import { computed } from "vue";
import { RouterLink } from "vue-router";
import { useMay } from "../composables/useMe";
import { useEntry } from "../composables/useQueries";
import { size, visible } from "../support/format";
import type { EntryAction, HandedIn } from "../support/types";
import ErrorNote from "./ErrorNote.vue";
import ExcerptView from "./ExcerptView.vue";
import HeldActions from "./HeldActions.vue";
import MendButton from "./MendButton.vue";
import StateTag from "./StateTag.vue";
import TimeBeside from "./TimeBeside.vue";

/** One held file: why, its text at the fault, and what can be done. */
const props = defineProps<{ id: number; at: number; of: number }>();
const emit = defineEmits<{
  step: [by: number];
  act: [action: EntryAction, entries: number[]];
  mended: [became: HandedIn];
}>();
const { data: entry, error } = useEntry(() => props.id);
const operator = useMay("operator");
const lies = computed(() => entry.value?.location.status === "unchanged");
</script>

<template>
  <section class="panel min-w-0 space-y-3 p-4" aria-labelledby="look">
    <div class="flex items-center justify-between gap-2">
      <span class="text-sm text-muted">{{ at + 1 }} of {{ of }}</span>
      <span class="flex gap-2">
        <button class="button" :disabled="at === 0" @click="emit('step', -1)">
          Previous <kbd class="text-xs text-muted max-md:hidden">k</kbd>
        </button>
        <button class="button" :disabled="at + 1 >= of" @click="emit('step', 1)">
          Next <kbd class="text-xs text-muted max-md:hidden">j</kbd>
        </button>
      </span>
    </div>
    <ErrorNote :error="error" />
    <template v-if="entry">
      <h2 id="look" class="flex flex-wrap items-center gap-2 font-semibold">
        <RouterLink :to="{ name: 'entry', params: { id: entry.id } }" class="link break-all">{{
          visible(entry.path)
        }}</RouterLink>
        <StateTag :word="entry.state" />
      </h2>
      <p class="text-sm text-muted">
        Entry {{ entry.id }} of {{ entry.gate }}, {{ size(entry.bytes) }}, <TimeBeside :at="entry.ready_at" />
      </p>
      <p
        v-if="entry.reason"
        class="rounded-md bg-danger-soft px-3 py-2 text-sm font-medium text-danger [overflow-wrap:anywhere]"
      >
        {{ visible(entry.reason) }}
      </p>
      <ExcerptView v-if="lies" :key="entry.id" :entry="entry.id" />
      <p v-else class="text-sm text-muted">Its file does not lie there any more as it was.</p>
      <HeldActions v-if="operator" :none="entry.state !== 'held'" @act="(action) => emit('act', action, [id])" />
      <MendButton
        v-if="operator && lies && entry.state === 'held'"
        :key="entry.id"
        :entry="entry"
        @mended="(became) => emit('mended', became)"
      />
    </template>
  </section>
</template>
