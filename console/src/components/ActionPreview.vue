<script setup lang="ts">
import { computed } from "vue";
import { useEntriesOf } from "../composables/useQueries";
import { counted, visible } from "../support/format";
import type { Done } from "../support/types";
import RefusedList from "./RefusedList.vue";

/** What an action would do, in numbers: to how many, what is refused, what would stand twice. */
const props = defineProps<{ would: Done; names: boolean }>();
const twice = defineModel<boolean>("twice", { required: true });
/** Of repeats: what the entries that they repeat have made is there already. */
const repeated = computed(() => props.would.made.filter((made) => made.by !== made.entry));
const rowsTwice = computed(() => props.would.made.reduce((sum, made) => sum + made.rows_twice, 0));
const outputs = computed(() => [
  ...new Set(props.would.made.flatMap((made) => made.outputs.map((output) => output.path))),
]);
const NAMED = 20;
const { data: named } = useEntriesOf(() => (props.names ? props.would.done.slice(0, NAMED) : []));
</script>

<template>
  <p class="font-medium">
    {{ counted(would.done.length, "entry", "entries")
    }}<template v-if="would.refused.length > 0">; {{ would.refused.length }} cannot</template>.
  </p>
  <ul
    v-if="names && named"
    class="max-h-40 overflow-y-auto rounded-md bg-danger-soft px-3 py-2 text-sm text-danger"
    tabindex="0"
    aria-label="What is deleted"
  >
    <li v-for="entry in named" :key="entry.id" class="break-all">
      {{ visible(entry.location.path ?? entry.path) }}
    </li>
    <li v-if="would.done.length > NAMED">and {{ would.done.length - NAMED }} more</li>
  </ul>
  <RefusedList :refused="would.refused" />
  <div v-if="outputs.length > 0" class="rounded-md bg-wait-soft px-3 py-2 text-sm text-wait">
    <p v-for="made in repeated.slice(0, 5)" :key="made.entry">
      Entry {{ made.entry }} is a repeat of entry {{ made.by }}, which was worked.
    </p>
    There already, and it stays:
    <p v-for="path in outputs.slice(0, 10)" :key="path" class="font-mono text-xs break-all">{{ visible(path) }}</p>
    <p v-if="rowsTwice > 0" class="mt-1 font-medium">{{ counted(rowsTwice, "row") }} would stand twice.</p>
    <label v-if="repeated.length > 0" class="mt-2 flex items-center gap-2">
      <input v-model="twice" type="checkbox" />
      Work it all the same
    </label>
  </div>
</template>
