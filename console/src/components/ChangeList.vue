<script setup lang="ts">
import { visible } from "../support/format";
import { RouterLink } from "vue-router";
import type { Change } from "../support/types";
import StateTag from "./StateTag.vue";
import TimeAgo from "./TimeAgo.vue";

/** What happened last, newest first. */
defineProps<{ changes: Change[] }>();
</script>

<template>
  <ol class="divide-y divide-line text-sm">
    <li v-for="change in changes" :key="change.id" class="flex items-baseline gap-3 px-4 py-1.5">
      <span class="w-16 shrink-0"><StateTag :word="change.state" /></span>
      <RouterLink
        :to="{ name: 'entry', params: { id: change.entry } }"
        class="link min-w-0 flex-1 truncate"
        :title="`${change.path}: ${change.words}`"
      >
        {{ visible(change.path) }}
      </RouterLink>
      <span class="hidden text-muted sm:inline">{{ change.gate }}</span>
      <span class="w-20 shrink-0 text-right text-xs text-muted"><TimeAgo :at="change.at" /></span>
    </li>
  </ol>
</template>
