<script setup lang="ts">
import { useZone } from "../composables/useQueries";
import { later, moment, visible } from "../support/format";
import type { Change } from "../support/types";
import StateTag from "./StateTag.vue";

/** The life of an entry, from its arrival on, oldest first. */
const props = defineProps<{ seenAt: string; history: Change[] }>();
const zone = useZone();
const before = (at: number) => props.history[at - 1]?.at ?? props.seenAt;
const CAUSES = { pass: "", recovery: "recovery after an interruption", person: "a person" };
</script>

<template>
  <ol class="relative ml-2 space-y-4 border-l-2 border-line pl-5 text-sm">
    <li class="relative">
      <span class="absolute top-1.5 -left-[1.6rem] size-2.5 rounded-full bg-line" aria-hidden="true" />
      <p class="flex flex-wrap items-center gap-2">
        <StateTag word="arriving" /><time :datetime="seenAt" class="text-muted">{{ moment(seenAt, zone) }}</time>
      </p>
      <p class="mt-0.5">first noticed in the drop folder</p>
    </li>
    <li v-for="(change, at) in history" :key="change.id" class="relative">
      <span class="absolute top-1.5 -left-[1.6rem] size-2.5 rounded-full bg-accent" aria-hidden="true" />
      <p class="flex flex-wrap items-center gap-2">
        <StateTag :word="change.state" />
        <time :datetime="change.at" class="text-muted">{{ moment(change.at, zone) }}</time>
        <span class="text-xs text-muted">{{ later(before(at), change.at) }}</span>
        <span v-if="change.by ?? CAUSES[change.cause]" class="text-muted"
          >by {{ change.by ?? CAUSES[change.cause] }}</span
        >
      </p>
      <p class="mt-0.5 [overflow-wrap:anywhere]">{{ visible(change.words) }}</p>
    </li>
  </ol>
</template>
