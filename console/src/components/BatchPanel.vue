<script setup lang="ts">
import { computed } from "vue";
import { count, counted, size } from "../support/format";
import type { Batch } from "../support/types";
import FactList from "./FactList.vue";

/** The work in which an entry was last: its outputs, and what it printed. */
const props = defineProps<{ batch: Batch }>();
const facts = computed(() => {
  const { batch } = props;
  const outputs = batch.outputs.flatMap((output, at) => [
    { name: batch.outputs.length > 1 ? `Output ${at + 1}` : "Output", value: output.path, code: true },
    {
      name: "Written",
      value: [
        output.rows === null ? null : counted(output.rows, "row"),
        output.bytes === null ? null : size(output.bytes),
        output.mode,
      ]
        .filter((part) => part !== null)
        .join(", "),
    },
    { name: "SHA-256", value: output.sha256, code: true },
  ]);
  return [
    { name: "Work", value: `${batch.work}, attempt ${count(batch.attempt)}` },
    { name: "Ended", value: batch.outcome ?? "under way" },
    { name: "Entries", value: count(batch.entries) },
    ...outputs,
  ];
});
</script>

<template>
  <section class="panel p-4" aria-labelledby="batch">
    <h2 id="batch" class="mb-3 font-semibold">Batch {{ batch.id }}</h2>
    <FactList :facts="facts" />
    <template v-if="batch.words.trim() !== ''">
      <h3 class="label mt-4 mb-1">What the program printed</h3>
      <pre class="max-h-80 overflow-auto rounded-md bg-raised p-3 font-mono text-xs whitespace-pre-wrap" tabindex="0">{{ batch.words.trimEnd() }}</pre>
    </template>
  </section>
</template>
