<script setup lang="ts">
import { computed } from "vue";
import { useNow } from "../composables/useNow";
import { counted, until } from "../support/format";
import type { Gate } from "../support/types";
import TimeAgo from "./TimeAgo.vue";

/** What is worth knowing of a gate and is no trouble: who paused it, when it opens, what it passes by. */
const props = defineProps<{ gate: Gate }>();
const now = useNow();
const opens = computed(() => {
  const closed = props.gate.closed;
  return closed?.opens_at ? `${closed.opens} (${until(closed.opens_at, now.value)})` : (closed?.opens ?? "");
});
const untaken = computed(() =>
  props.gate.untaken === 1
    ? "No pattern takes 1 file that lies in the drop folder."
    : `No pattern takes ${counted(props.gate.untaken, "file")} that lie in the drop folder.`,
);
</script>

<template>
  <div v-if="gate.pause || gate.closed || gate.untaken > 0" class="space-y-1 text-sm text-muted">
    <p v-if="gate.pause" class="text-wait">
      Paused by {{ gate.pause.by ?? "somebody" }}
      <TimeAgo v-if="gate.pause.since" :at="gate.pause.since" />
    </p>
    <p v-if="gate.closed && !gate.paused">Closed: {{ gate.closed.because }}; {{ opens }}.</p>
    <p v-if="gate.untaken > 0">{{ untaken }}</p>
  </div>
</template>
