<script setup lang="ts">
import { useQuery, keepPreviousData } from "@tanstack/vue-query";
import { computed, ref } from "vue";
import { ApiError, get } from "../support/api";
import { count, counted, visible } from "../support/format";
import type { Matches } from "../support/types";

/** Type a pattern, and see at once which of the present files it takes. */
const props = defineProps<{ gate: string; patterns: string[] }>();
// Trimmed only where it is asked: trimming what is typed would eat a space that is
// about to be followed by more.
const typed = ref(props.patterns[0] ?? "*");
const pattern = computed(() => typed.value.trim());

const { data, error } = useQuery({
  queryKey: ["files", "matches", () => props.gate, pattern],
  queryFn: () => get<Matches>(`/gates/${encodeURIComponent(props.gate)}/matches`, { pattern: pattern.value }),
  enabled: computed(() => pattern.value !== ""),
  placeholderData: keepPreviousData,
  retry: false,
});
const fault = computed(() => (error.value instanceof ApiError ? error.value.message : ""));
const fields = (captured: Record<string, string>) =>
  Object.entries(captured)
    .map(([name, value]) => `${name} ${value}`)
    .join(" · ");
</script>

<template>
  <section class="panel min-w-0" aria-labelledby="tester">
    <div class="border-b border-line px-4 py-2.5">
      <h2 id="tester" class="font-semibold">Try a pattern</h2>
      <p class="text-sm text-muted">
        On the files that lie there now. Nothing is changed; put it into <code>take</code> when it is right.
      </p>
      <label for="pattern" class="sr-only">Pattern</label>
      <input
        id="pattern"
        v-model="typed"
        class="field mt-2 w-full font-mono"
        spellcheck="false"
        autocomplete="off"
        placeholder="<station>_<day:%Y%m%d>*.csv"
        aria-describedby="verdict"
      />
      <p id="verdict" role="status" class="mt-2 text-sm" :class="fault ? 'text-danger' : 'text-muted'">
        <template v-if="fault">{{ fault }}</template>
        <template v-else-if="data">
          It takes {{ counted(data.matched_count, "file") }} and leaves {{ count(data.missed_count) }}.
          <template v-if="data.matched_count + data.missed_count > data.matched.length + data.missed.length">
            The first of each are below.
          </template>
        </template>
      </p>
    </div>
    <ul
      v-if="data && !fault"
      class="max-h-72 divide-y divide-line overflow-y-auto text-sm"
      tabindex="0"
      aria-label="What the pattern makes of each file"
    >
      <li v-for="file in data.matched" :key="file.path" class="flex flex-wrap gap-x-3 px-4 py-1.5">
        <span class="text-good" aria-hidden="true">✓</span>
        <span class="min-w-0 [overflow-wrap:anywhere]">{{ visible(file.path) }}</span>
        <span class="text-muted">{{ fields(file.fields) }}</span>
      </li>
      <li v-for="file in data.missed" :key="file.path" class="flex flex-wrap gap-x-3 px-4 py-1.5 text-muted">
        <span aria-hidden="true">–</span>
        <span class="min-w-0 [overflow-wrap:anywhere]">{{ visible(file.path) }}</span>
        <span class="[overflow-wrap:anywhere]">{{ visible(file.because) }}</span>
      </li>
    </ul>
  </section>
</template>
