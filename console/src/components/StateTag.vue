<script setup lang="ts">
import { computed } from "vue";

/** A word of state or verdict. Its colour only repeats what the word says. */
const props = defineProps<{ word: string }>();

const TONES: Record<string, string> = {
  held: "bg-danger-soft text-danger",
  hold: "bg-danger-soft text-danger",
  unreadable: "bg-danger-soft text-danger",
  troubled: "bg-danger-soft text-danger",
  ready: "bg-wait-soft text-wait",
  working: "bg-wait-soft text-wait",
  wait: "bg-wait-soft text-wait",
  paused: "bg-wait-soft text-wait",
  worked: "bg-good-soft text-good",
  work: "bg-good-soft text-good",
  file: "bg-good-soft text-good",
  take: "bg-good-soft text-good",
  open: "bg-good-soft text-good",
  filed: "bg-good-soft text-good",
};
const tone = computed(() => TONES[props.word] ?? "bg-quiet-soft text-quiet");
</script>

<template>
  <span class="inline-block rounded-full px-2 py-0.5 text-xs font-medium whitespace-nowrap" :class="tone">
    {{ word }}
  </span>
</template>
