<script setup lang="ts">
import { visible } from "../support/format";
import { RouterLink } from "vue-router";
import type { Entry } from "../support/types";
import TimeAgo from "./TimeAgo.vue";

/** Held entries, each with the reason for which a person is needed. */
defineProps<{ entries: Entry[] }>();
</script>

<template>
  <ul class="divide-y divide-line text-sm">
    <li v-for="entry in entries" :key="entry.id" class="px-4 py-2">
      <div class="flex items-baseline gap-3">
        <RouterLink
          :to="{ name: 'entry', params: { id: entry.id } }"
          class="link min-w-0 flex-1 font-medium [overflow-wrap:anywhere]"
        >
          {{ visible(entry.path) }}
        </RouterLink>
        <span class="text-muted">{{ entry.gate }}</span>
        <span class="shrink-0 text-xs text-muted"><TimeAgo :at="entry.ready_at" /></span>
      </div>
      <p class="mt-0.5 text-danger [overflow-wrap:anywhere]">{{ visible(entry.reason ?? "no reason was recorded") }}</p>
    </li>
  </ul>
</template>
