<script setup lang="ts">
import { computed } from "vue";
import type { Line } from "../composables/useLive";

const props = defineProps<{ line: Line }>();
const words = computed(
  () => ({ connecting: "Connecting …", live: "Live", lost: "Connection lost, trying again" })[props.line],
);
</script>

<template>
  <span role="status" class="flex items-center gap-1.5 text-xs" :class="line === 'lost' ? 'text-danger' : 'text-muted'">
    <span
      class="size-2 rounded-full"
      :class="{ 'bg-good': line === 'live', 'bg-danger': line === 'lost', 'bg-wait': line === 'connecting' }"
      aria-hidden="true"
    />
    {{ words }}
  </span>
</template>
