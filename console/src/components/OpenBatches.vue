<script setup lang="ts">
import { counted, size, visible } from "../support/format";
import type { OpenBatch } from "../support/types";

/** Batches that are being gathered: what is in each, and what is still missing. */
defineProps<{ batches: OpenBatch[] }>();
</script>

<template>
  <section class="panel min-w-0" aria-labelledby="gathering">
    <h2 id="gathering" class="border-b border-line px-4 py-2.5 font-semibold">
      Open batches
      <span class="ml-1 text-sm font-normal text-muted">{{ counted(batches.length, "batch", "batches") }}</span>
    </h2>
    <ul class="divide-y divide-line text-sm">
      <li v-for="batch in batches" :key="batch.output + (batch.by ?? '')" class="px-4 py-3">
        <p class="flex flex-wrap items-baseline justify-between gap-x-4">
          <span class="font-medium">{{ batch.by ?? "All files" }}</span>
          <span class="text-muted">{{ counted(batch.files, "file") }}, {{ size(batch.bytes) }}</span>
        </p>
        <p class="text-muted">
          {{ batch.closes }}, into
          <span class="font-mono text-xs [overflow-wrap:anywhere]">{{ batch.output }}</span>
        </p>
        <p v-if="batch.missing.length > 0" class="mt-1 flex flex-wrap items-center gap-1">
          <span class="text-wait">Still missing:</span>
          <span v-for="one in batch.missing" :key="one" class="rounded bg-wait-soft px-1.5 py-0.5 text-xs text-wait">{{
            one
          }}</span>
        </p>
        <details class="mt-1">
          <summary class="link cursor-pointer">What is in it</summary>
          <ul class="mt-1 max-h-48 list-disc overflow-y-auto pl-5">
            <li v-for="path in batch.paths" :key="path" class="[overflow-wrap:anywhere]">{{ visible(path) }}</li>
          </ul>
        </details>
      </li>
    </ul>
  </section>
</template>
