<script setup lang="ts">
import { visible } from "../support/format";
defineProps<{ problems: string[] }>();
</script>

<template>
  <ul v-if="problems.length > 0" class="space-y-1" aria-label="Standing problems">
    <li
      v-for="problem in problems"
      :key="problem"
      class="rounded-md bg-danger-soft px-3 py-2 text-sm break-words text-danger"
    >
      {{ visible(problem) }}
    </li>
  </ul>
</template>
