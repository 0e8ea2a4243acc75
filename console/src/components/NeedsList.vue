<script setup lang="ts">
import { computed } from "vue";
import { RouterLink, type RouteLocationRaw } from "vue-router";
import { count } from "../support/format";

/** Things of one kind that somebody should know of. */
export interface Need {
  key: string;
  name: string;
  words: string;
  to?: RouteLocationRaw;
}
const props = defineProps<{
  title: string;
  one?: string;
  needs: Need[];
  /** How many there are, where these are not all. */
  total?: number;
  urgent?: boolean;
  more?: RouteLocationRaw;
}>();
const all = computed(() => props.total ?? props.needs.length);
const SHOWN = 6;
const id = `needs-${props.title.replaceAll(/\W+/g, "-").toLowerCase()}`;
</script>

<template>
  <section v-if="needs.length > 0" class="panel min-w-0" :aria-labelledby="id">
    <h2 :id="id" class="flex justify-between gap-2 border-b border-line px-4 py-2.5 font-semibold">
      <span :class="urgent ? 'text-danger' : ''">{{ count(all) }} {{ all === 1 ? (one ?? title) : title }}</span>
      <RouterLink v-if="more" :to="more" class="link text-sm font-normal">all</RouterLink>
    </h2>
    <ul class="divide-y divide-line text-sm">
      <li v-for="need in needs.slice(0, SHOWN)" :key="need.key" class="px-4 py-2 [overflow-wrap:anywhere]">
        <RouterLink v-if="need.to" :to="need.to" class="link font-medium">{{ need.name }}</RouterLink>
        <span v-else class="font-medium">{{ need.name }}</span>
        <span v-if="need.words" class="ml-1.5 text-muted">{{ need.words }}</span>
      </li>
      <li v-if="all > SHOWN" class="px-4 py-2 text-muted">and {{ count(all - SHOWN) }} more</li>
    </ul>
  </section>
</template>
