<script setup lang="ts">
import { computed } from "vue";
import { visible } from "../support/format";
import { DUE_STATES, dayHead, daysOf, rowsOf } from "../support/dues";
import type { DueCell } from "../support/types";

/** Expectations as days by values: read in two seconds, with what is behind each cell. */
const props = defineProps<{ cells: DueCell[]; each: string | null }>();
const chosen = defineModel<DueCell | null>({ required: true });
const days = computed(() => daysOf(props.cells));
const rows = computed(() => rowsOf(props.cells));
const isChosen = (cell: DueCell) => cell.day === chosen.value?.day && cell.value === chosen.value?.value;
const name = (cell: DueCell) => `${cell.value ?? cell.gate} ${cell.day}: ${DUE_STATES[cell.state].word}`;
</script>

<template>
  <div class="overflow-x-auto p-3" tabindex="0" role="region" aria-label="Expectations by day">
    <table class="border-separate border-spacing-1 text-sm">
      <thead>
        <tr>
          <th scope="col" class="pr-3 text-left text-xs font-normal text-muted">{{ each ?? "" }}</th>
          <th v-for="day in days" :key="day" scope="col" class="text-center text-xs font-normal text-muted">
            {{ dayHead(day).weekday }}<br />{{ dayHead(day).date }}
          </th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="row in rows" :key="row.value">
          <th scope="row" class="max-w-56 truncate pr-3 text-left font-medium" :title="visible(row.value)">
            {{ row.value === "" ? "all" : visible(row.value) }}
          </th>
          <td v-for="day in days" :key="day" class="p-0">
            <button
              v-if="row.cells.get(day)"
              class="grid h-8 w-9 place-items-center rounded-md font-semibold"
              :class="[
                DUE_STATES[row.cells.get(day)!.state].tone,
                isChosen(row.cells.get(day)!) ? 'outline-2 outline-offset-1 outline-accent' : '',
              ]"
              :aria-label="name(row.cells.get(day)!)"
              :title="row.cells.get(day)!.words"
              @click="chosen = row.cells.get(day)!"
            >
              {{ DUE_STATES[row.cells.get(day)!.state].sign }}
            </button>
          </td>
        </tr>
      </tbody>
    </table>
  </div>
</template>
