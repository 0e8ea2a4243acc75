<script setup lang="ts">
import { useMutation } from "@tanstack/vue-query";
import { computed, watch } from "vue";
import { get } from "../support/api";
import { counted, visible } from "../support/format";
import type { Rehearsed } from "../support/types";
import EmptyNote from "./EmptyNote.vue";
import ErrorNote from "./ErrorNote.vue";
import StateTag from "./StateTag.vue";

/** What a pass would do now, asked for by a person: it reads every file whole. */
const props = defineProps<{ gate: string }>();
const { mutate, data, error, isPending, reset } = useMutation({
  mutationFn: () => get<Rehearsed[]>(`/gates/${encodeURIComponent(props.gate)}/rehearsal`),
});
watch(() => props.gate, reset);

const into = (file: Rehearsed) =>
  file.output
    ? [{ output: file.output, mode: file.mode }, ...(file.also ?? [])]
        .map((one) => `${one.output} (${one.mode})`)
        .join(", ")
    : (file.program ?? "");
const summary = computed(() => {
  const files = data.value ?? [];
  const parts = (["work", "file", "repeat", "pass over", "hold", "wait"] as const)
    .map((will) => ({ will, count: files.filter((file) => file.will === will).length }))
    .filter(({ count }) => count > 0)
    .map(({ will, count }) => `${count} ${will}`);
  return `${counted(files.length, "file")}: ${parts.join(", ")}`;
});
</script>

<template>
  <section class="panel min-w-0" aria-labelledby="rehearsal">
    <div class="flex flex-wrap items-center justify-between gap-2 px-4 py-2" :class="{ 'border-b border-line': data }">
      <h2 id="rehearsal" class="font-semibold">
        Rehearsal
        <span class="ml-1 text-sm font-normal text-muted">
          {{ data && data.length > 0 ? summary : "what a pass would do now; nothing is touched" }}
        </span>
      </h2>
      <button class="button" :disabled="isPending" @click="mutate()">
        {{ isPending ? "Reading the files …" : "Rehearse" }}
      </button>
    </div>
    <ErrorNote :error="error" />
    <EmptyNote v-if="data && data.length === 0" title="A pass would do nothing.">
      No file waits. What is left in the drop folder is told below.
    </EmptyNote>
    <ol
      v-else-if="data"
      class="max-h-96 divide-y divide-line overflow-y-auto text-sm"
      tabindex="0"
      aria-label="Files of the rehearsal"
    >
      <li v-for="file in data" :key="file.place" class="flex gap-3 px-4 py-2">
        <span class="w-20 shrink-0"><StateTag :word="file.will" /></span>
        <div class="min-w-0 flex-1 [overflow-wrap:anywhere]">
          <p class="font-medium">{{ visible(file.place) }}</p>
          <p v-if="file.because" :class="file.will === 'hold' ? 'text-danger' : 'text-muted'">
            {{ visible(file.because) }}
          </p>
          <p v-if="into(file)" class="text-muted">
            into <span class="font-mono text-xs">{{ into(file) }}</span>
          </p>
          <p v-if="file.filed_to" class="text-muted">
            then to <span class="font-mono text-xs">{{ visible(file.filed_to) }}</span>
          </p>
        </div>
      </li>
    </ol>
  </section>
</template>
