<script setup lang="ts">
import { computed } from "vue";
import { RouterLink } from "vue-router";
import { addsUp } from "../support/tables";
import { count, visible } from "../support/format";
import type { OutputAccount, OutputPart } from "../support/types";

/** Whether the rows of an output add up: batch by batch, and all together. */
const props = defineProps<{ account: OutputAccount }>();
const totals = (part: OutputPart) =>
  (part.account?.columns ?? [])
    .filter((column) => column.total !== undefined)
    .map((column) => `${visible(column.name)} ${column.total}`)
    .join(", ");
const totalled = computed(() => props.account.parts.some((part) => totals(part) !== ""));
const path = computed(() => props.account.parts[0]?.path ?? "");
</script>

<template>
  <section class="panel min-w-0" aria-labelledby="account">
    <div class="flex flex-wrap items-baseline justify-between gap-2 border-b border-line px-4 py-2.5">
      <h2 id="account" class="font-semibold">Account</h2>
      <RouterLink :to="{ name: 'ledger', query: { output: path } }" class="link text-sm"> the files in it </RouterLink>
    </div>
    <p class="px-4 py-3 text-sm" :class="addsUp(account) ? '' : 'text-danger'">
      <b>{{ count(account.rows_in) }}</b> rows in = <b>{{ count(account.rows_out) }}</b> out +
      <b>{{ count(account.set_aside) }}</b> set aside + <b>{{ count(account.left_out) }}</b> left out
      <span v-if="!addsUp(account)">: this does not add up</span>
      <span v-if="account.next !== null" class="text-muted">
        in {{ count(account.batches) }} batches; these are the newest {{ count(account.parts.length) }}
      </span>
    </p>
    <div class="max-h-72 overflow-auto" tabindex="0" aria-label="Batches of the output">
      <table class="w-full text-sm">
        <caption class="sr-only">
          What each batch wrote
        </caption>
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
          <tr v-for="part in account.parts" :key="part.batch">
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
