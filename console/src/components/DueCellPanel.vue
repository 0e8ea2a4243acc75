<script setup lang="ts">
import { useMutation, useQueryClient } from "@tanstack/vue-query";
import { computed, ref, watch } from "vue";
import { RouterLink } from "vue-router";
import { useMay, useSigner } from "../composables/useMe";
import { post } from "../support/api";
import { DUE_STATES } from "../support/dues";
import { count, counted, size, visible } from "../support/format";
import type { DueCell } from "../support/types";
import ErrorNote from "./ErrorNote.vue";
import WhoAndWhy from "./WhoAndWhy.vue";

/** What is behind one expectation: its files, and saying that it need not come. */
const props = defineProps<{ cell: DueCell }>();
const emit = defineEmits<{ excused: [cell: DueCell] }>();
const queries = useQueryClient();
const signer = useSigner();
const operator = useMay("operator");
const why = ref("");
const asking = ref(false);
watch(
  () => [props.cell.day, props.cell.value, props.cell.due],
  () => {
    why.value = "";
    asking.value = false;
  },
);
const excuse = useMutation({
  mutationFn: () => {
    const { due, value, day } = props.cell;
    return post<DueCell>("/excuses", { due, value, day, who: signer.who(), why: why.value });
  },
  onSuccess: (cell) => {
    asking.value = false;
    emit("excused", cell);
  },
  onSettled: () => queries.invalidateQueries(),
});
const open = computed(() => operator.value && ["missing", "late", "due-soon", "expected"].includes(props.cell.state));
const ready = computed(() => signer.ready.value && why.value.trim() !== "");
const SHOWN = 12;
</script>

<template>
  <div class="space-y-2 border-t border-line p-4 text-sm">
    <p>
      <span class="mr-2 inline-block rounded-full px-2 py-0.5 text-xs font-medium" :class="DUE_STATES[cell.state].tone">
        {{ DUE_STATES[cell.state].word }}
      </span>
      <span class="font-medium">{{ visible(cell.value ?? cell.gate) }}</span> on {{ cell.day }}:
      {{ visible(cell.words) }}
    </p>
    <p v-if="cell.files > 0">
      {{ counted(cell.files, "file") }}, {{ size(cell.bytes) }}, {{ counted(cell.rows, "row") }}: entries
      <template v-for="(entry, at) in cell.entries.slice(0, SHOWN)" :key="entry">
        {{ at > 0 ? ", " : ""
        }}<RouterLink :to="{ name: 'entry', params: { id: entry } }" class="link">{{ entry }}</RouterLink>
      </template>
      <template v-if="cell.files > SHOWN"> and {{ count(cell.files - SHOWN) }} more</template>
    </p>
    <ErrorNote :error="excuse.error.value" />
    <button v-if="open && !asking" class="button" @click="asking = true">Excuse …</button>
    <form v-if="open && asking" class="max-w-md space-y-3" @submit.prevent="excuse.mutate()">
      <WhoAndWhy v-model="why" />
      <div class="flex gap-2">
        <button type="submit" class="button button-main" :disabled="!ready || excuse.isPending.value">
          It need not come
        </button>
        <button type="button" class="button" @click="asking = false">Leave it</button>
      </div>
    </form>
  </div>
</template>
