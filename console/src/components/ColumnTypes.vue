<script setup lang="ts">
import { visible } from "../support/format";
import { COLUMN_TYPES, type ColumnChoice } from "../support/newGate";

/** Which columns are wanted, and as what. */
const columns = defineModel<ColumnChoice[]>({ required: true });
</script>

<template>
  <div class="max-h-72 overflow-auto rounded-md border border-line" tabindex="0" role="group" aria-label="Columns">
    <table class="w-full text-sm">
      <caption class="sr-only">
        Columns and their types
      </caption>
      <thead class="border-b border-line text-xs text-muted">
        <tr>
          <th class="cell" scope="col">Column</th>
          <th class="cell" scope="col">Type</th>
        </tr>
      </thead>
      <tbody class="divide-y divide-line">
        <tr v-for="column in columns" :key="column.name">
          <td class="px-3 py-1">
            <label class="flex items-center gap-2">
              <input v-model="column.wanted" type="checkbox" class="size-4 accent-accent" />
              <span class="break-all" :class="{ 'text-muted line-through': !column.wanted }">{{
                visible(column.name)
              }}</span>
            </label>
          </td>
          <td class="px-3 py-1">
            <select
              v-model="column.type"
              class="field py-0.5"
              :disabled="!column.wanted"
              :aria-label="`Type of ${column.name}`"
            >
              <option v-for="type in COLUMN_TYPES" :key="type">{{ type }}</option>
            </select>
          </td>
        </tr>
      </tbody>
    </table>
  </div>
</template>
