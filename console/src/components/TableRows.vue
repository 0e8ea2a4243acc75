<script setup lang="ts">
import { visible } from "../support/format";
/** The first rows of a table; types stand below the names where they are given. */
defineProps<{ columns: { name: string; type?: string }[]; rows: (string | null)[][]; typed?: boolean }>();
</script>

<template>
  <div class="max-h-[32rem] overflow-auto" tabindex="0" aria-label="First rows">
    <table class="w-full text-sm">
      <caption class="sr-only">
        First rows
      </caption>
      <thead class="sticky top-0 border-b border-line bg-surface text-xs text-muted">
        <tr>
          <th v-for="column in columns" :key="column.name" class="cell whitespace-nowrap" scope="col">
            {{ visible(column.name) }}
            <span v-if="typed" class="block font-normal text-muted">{{ column.type }}</span>
          </th>
        </tr>
      </thead>
      <tbody class="divide-y divide-line">
        <tr v-for="(row, at) in rows" :key="at">
          <td
            v-for="(cell, place) in row"
            :key="place"
            class="cell max-w-80 truncate whitespace-nowrap"
            :title="cell ?? undefined"
          >
            {{ cell ?? "" }}
          </td>
        </tr>
      </tbody>
    </table>
  </div>
</template>
