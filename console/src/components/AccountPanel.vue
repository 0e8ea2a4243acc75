<script setup lang="ts">
import { computed } from "vue";
import { RouterLink } from "vue-router";
import { summed } from "../support/tables";
import { count } from "../support/format";
import type { OutputPart } from "../support/types";

/** Whether the rows of an output add up: batch by batch, and all together. */
const props = defineProps<{ parts: OutputPart[] }>();
const sum = computed(() => summed(props.parts));
const totals = (part: OutputPart) =>
  (part.account?.columns ?? [])
    .filter((column) => column.total !== undefined)
    .map((column) => `${column.name} ${column.total}`)
    .join(", ");
const totalled = computed(() => props.parts.some((part) => totals(part) !== ""));
/** Batches that are shown one by one: the newest. */
const SHOWN = 50;
const shown = computed(() => props.parts.slice(-SHOWN));
const path = computed(() => props.parts[0]?.path ?? "");
</script>

<template>
  <section class="panel min-w-0" aria-labelledby="account">
    <div class="flex flex-wrap items-baseline justify-between gap-2 border-b border-line px-4 py-2.5">
      <h2 id="account" class="font-semibold">Account</h2>
      <RouterLink :to="{ name: 'ledger', query: { output: path } }" class="link text-sm">
        the files in it
      </RouterLink>
    </div>
    <p class="px-4 py-3 text-sm" :class="sum.adds_up ? '' : 'text-danger'">
      <b>{{ count(sum.rows_in) }}</b> rows in = <b>{{ count(sum.rows_out) }}</b> out +
      <b>{{ count(sum.set_aside) }}</b> set aside + <b>{{ count(sum.left_out) }}</b> left out
      <span v-if="!sum.adds_up">: this does not add up</span>
      <span v-if="parts.length > SHOWN" class="text-muted">in {{ count(parts.length) }} batches; these are the newest {{ SHOWN }}</span>
    </p>
    <div class="max-h-72 overflow-auto" tabindex="0" aria-label="Batches of the output">
      <table class="w-full text-sm">
        <caption class="sr-only">What each batch wrote</caption>
        <thead class="border-y border-line text-xs text-muted">
          <tr>
            <th class="cell" scope="col">Batch</th>
            <th class="cell" scope="col">How</th>
            <th class="cell text-right" scope="col">Files</th>
            <th class="cell text-right" scope="col">Rows in</th>
            <th class="cell text-right" scope="col">Out</th>
            <th class="cell text-right" scope="col">Set aside</th>
            <th class="cell text-right" scope="col">Left out</th>
            <th v-if="totalled" class="cell" scope="col">Totals</th>
          </tr>
        </thead>
        <tbody class="divide-y divide-line">
          <tr v-for="part in shown" :key="part.batch">
            <td class="cell">{{ part.batch }}</td>
            <td class="cell">{{ part.mode }}</td>
            <td class="cell text-right">{{ count(part.entries) }}</td>
            <template v-if="part.account">
              <td class="cell text-right">{{ count(part.account.rows_in) }}</td>
              <td class="cell text-right">{{ count(part.account.rows_out) }}</td>
              <td class="cell text-right">{{ count(part.account.set_aside) }}</td>
              <td class="cell text-right">{{ count(part.account.left_out) }}</td>
              <td v-if="totalled" class="cell">{{ totals(part) }}</td>
            </template>
            <td v-else class="cell text-muted" colspan="5">no rows of its own ({{ part.role }})</td>
          </tr>
        </tbody>
      </table>
    </div>
  </section>
</template>
