<script setup lang="ts">
import { count, visible } from "../support/format";
import { heights } from "../support/tables";
import type { SampleColumn } from "../support/types";

/** The columns of a table: types, empties, bounds, and a little distribution of each. */
defineProps<{ columns: SampleColumn[] }>();
const title = (column: SampleColumn) => column.bars.map((bar) => `${bar.of}: ${count(bar.count)}`).join("\n");
</script>

<template>
  <div class="overflow-x-auto">
    <table class="w-full text-sm">
      <caption class="sr-only">
        Columns
      </caption>
      <thead class="border-b border-line text-xs text-muted">
        <tr>
          <th class="cell" scope="col">Column</th>
          <th class="cell" scope="col">Type</th>
          <th class="cell text-right" scope="col">Empty</th>
          <th class="cell text-right" scope="col">Different</th>
          <th class="cell" scope="col">Least</th>
          <th class="cell" scope="col">Greatest</th>
          <th class="cell" scope="col">Distribution</th>
        </tr>
      </thead>
      <tbody class="divide-y divide-line">
        <tr v-for="column in columns" :key="column.name">
          <th class="cell font-medium" scope="row">{{ visible(column.name) }}</th>
          <td class="cell text-muted">{{ column.type }}</td>
          <td class="cell text-right">{{ count(column.empty) }}</td>
          <td class="cell text-right whitespace-nowrap">
            {{ count(column.different) }}{{ column.different_more ? "+" : "" }}
          </td>
          <td class="cell max-w-44 truncate" :title="column.least ?? undefined">{{ column.least }}</td>
          <td class="cell max-w-44 truncate" :title="column.most ?? undefined">{{ column.most }}</td>
          <td class="cell">
            <span class="flex h-6 items-end gap-px" :title="title(column)" aria-hidden="true">
              <span
                v-for="(height, at) in heights(column.bars)"
                :key="at"
                class="w-2 rounded-t-sm bg-bar"
                :style="{ height: `${height}%` }"
              />
            </span>
          </td>
        </tr>
      </tbody>
    </table>
  </div>
</template>
