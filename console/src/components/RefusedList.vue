<script setup lang="ts">
import { visible } from "../support/format";
import type { Done } from "../support/types";

/** Entries to which something is not done, and why. */
defineProps<{ refused: Done["refused"] }>();
</script>

<template>
  <ul
    v-if="refused.length > 0"
    class="max-h-32 overflow-y-auto text-sm text-danger"
    tabindex="0"
    aria-label="What is refused"
  >
    <li v-for="one in refused.slice(0, 50)" :key="one.entry">Entry {{ one.entry }}: {{ visible(one.because) }}</li>
  </ul>
</template>
