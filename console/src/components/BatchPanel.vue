<script setup lang="ts">
import { computed } from "vue";
import { RouterLink } from "vue-router";
import { count, counted, size, visible } from "../support/format";
import { isTable } from "../support/tables";
import type { Batch, Output } from "../support/types";
import EditedCells from "./EditedCells.vue";
import FactList from "./FactList.vue";
import MemberTree from "./MemberTree.vue";

/** The work in which an entry was last: its outputs, and what it printed. */
const props = defineProps<{ batch: Batch; entry: number }>();
const name = (output: Output) => output.label.charAt(0).toUpperCase() + output.label.slice(1);
const facts = computed(() => {
  const { batch } = props;
  return [
    { name: "Work", value: `${batch.work}, attempt ${count(batch.attempt)}` },
    { name: "Ended", value: batch.outcome ?? "under way" },
    { name: "Entries", value: count(batch.entries) },
  ];
});
/** Files of an archive are told below the folder into which it was unpacked. */
const members = computed(() => props.batch.outputs.filter((output) => output.role === "member"));
const told = computed(() => props.batch.outputs.filter((output) => output.role !== "member").slice(0, 40));
const untold = computed(() => {
  const others = props.batch.outputs.length - members.value.length;
  return others > told.value.length ? others - told.value.length : 0;
});
const more = computed(() => props.batch.outputs_count - props.batch.outputs.length);
const written = (output: Output) =>
  [
    output.rows === null || (output.rows === 0 && !output.account) ? null : counted(output.rows, "row"),
    output.bytes === null ? null : size(output.bytes),
    output.role === "unpacked" ? null : output.mode === "leave" ? "left as it was" : output.mode,
  ]
    .filter((part) => part !== null)
    .join(", ");
const figures = (output: Output) => (output.figures ?? {}) as Record<string, unknown>;
const sum = (output: Output) => {
  const account = output.account;
  if (!account || account.set_aside + account.left_out === 0) return null;
  return `${count(account.rows_in)} rows in = ${count(account.rows_out)} out + ${count(account.set_aside)} set aside + ${count(account.left_out)} left out`;
};
</script>

<template>
  <section class="panel p-4" aria-labelledby="batch">
    <h2 id="batch" class="mb-3 font-semibold">Batch {{ batch.id }}</h2>
    <FactList :facts="facts" />
    <ul v-if="batch.outputs.length > 0" class="mt-3 divide-y divide-line border-t border-line text-sm">
      <li v-for="output in told" :key="output.path" class="py-2">
        <p class="flex flex-wrap justify-between gap-x-4">
          <span>
            <span class="font-medium">{{ name(output) }}</span>
            <span class="ml-2 text-muted">{{ written(output) }}</span>
          </span>
          <RouterLink
            v-if="!output.has_rows && isTable(output.path)"
            :to="{ name: 'table', query: { path: output.path } }"
            class="link"
            :aria-label="`look inside ${output.path}`"
            >look inside</RouterLink
          >
          <RouterLink v-else-if="output.has_rows" :to="{ name: 'rows', params: { id: entry } }" class="link">
            its rows there
          </RouterLink>
          <RouterLink v-else-if="output.became" :to="{ name: 'entry', params: { id: output.became } }" class="link"
            >became entry {{ output.became }}</RouterLink
          >
        </p>
        <p class="font-mono text-[0.8125rem] [overflow-wrap:anywhere]">{{ visible(output.path) }}</p>
        <p v-if="sum(output)" class="text-muted">{{ sum(output) }}</p>
        <p v-if="output.note" class="text-muted">{{ output.note }}</p>
        <EditedCells v-if="output.role === 'edited' && output.figures" :figures="figures(output)" />
        <MemberTree
          v-if="output.role === 'unpacked' && members.length > 0"
          :members="members"
          :folder="output.path"
          :more="more"
        />
        <p v-if="output.sha256" class="font-mono text-xs text-muted [overflow-wrap:anywhere]">{{ output.sha256 }}</p>
      </li>
      <li v-if="untold > 0" class="py-2 text-muted">and {{ counted(untold, "more output") }}</li>
    </ul>
    <template v-if="batch.words.trim() !== ''">
      <h3 class="label mt-4 mb-1">What the program printed</h3>
      <pre class="max-h-80 overflow-auto rounded-md bg-raised p-3 font-mono text-xs whitespace-pre-wrap" tabindex="0">{{
        batch.words.trimEnd().split("\n").map(visible).join("\n")
      }}</pre>
    </template>
  </section>
</template>
