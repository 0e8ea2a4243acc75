<script setup lang="ts">
import { Dialog, DialogPanel, DialogTitle } from "@headlessui/vue";
import { useMutation, useQueryClient } from "@tanstack/vue-query";
import { computed, ref, watch } from "vue";
import { useSigner } from "../composables/useMe";
import { post } from "../support/api";
import { ACTIONS, told } from "../support/actions";
import { counted, visible } from "../support/format";
import type { EntryAction, Done, EntryQuery } from "../support/types";
import ErrorNote from "./ErrorNote.vue";
import WhoAndWhy from "./WhoAndWhy.vue";

/** Does something to entries: first it tells to how many, then asks who and why. */
const props = defineProps<{ action: EntryAction; entries?: number[]; fitting?: EntryQuery }>();
const open = defineModel<boolean>({ required: true });
const queries = useQueryClient();
const signer = useSigner();
const why = ref("");

const twice = ref(false);

const order = (rehearse: boolean, expected?: number) => ({
  action: props.action,
  entries: props.entries ?? [],
  fitting: props.fitting ?? null,
  who: signer.who(rehearse),
  why: rehearse ? "" : why.value,
  rehearse,
  twice: twice.value,
  expected: expected ?? null,
});
const would = useMutation({ mutationFn: () => post<Done>("/entries/actions", order(true)) });
const does = useMutation({
  mutationFn: (expected: number) => post<Done>("/entries/actions", order(false, expected)),
  onSettled: () => queries.invalidateQueries(),
});
watch(open, (now) => {
  if (!now) return;
  why.value = "";
  twice.value = false;
  does.reset();
  would.mutate();
});

const words = computed(() => ACTIONS[props.action]);
const all = computed(() => (would.data.value?.done.length ?? 0) + (would.data.value?.refused.length ?? 0));
/** Of repeats: what the entries that they repeat have made is there already. */
const repeated = computed(() => (would.data.value?.made ?? []).filter((made) => made.by !== made.entry));
const rowsTwice = computed(() => (would.data.value?.made ?? []).reduce((sum, made) => sum + made.rows_twice, 0));
const ready = computed(
  () =>
    would.data.value &&
    would.data.value.done.length > 0 &&
    signer.ready.value &&
    why.value.trim() !== "" &&
    (repeated.value.length === 0 || twice.value),
);
const outputs = computed(() => [
  ...new Set((would.data.value?.made ?? []).flatMap((made) => made.outputs.map((output) => output.path))),
]);
</script>

<template>
  <Dialog :open="open" class="relative z-30" @close="open = false">
    <div class="fixed inset-0 bg-black/50" aria-hidden="true" />
    <div class="fixed inset-0 flex items-center justify-center p-4">
      <DialogPanel class="panel max-h-full w-full max-w-lg space-y-4 overflow-y-auto p-5 shadow-xl">
        <DialogTitle class="text-lg font-semibold">{{ words.title }}</DialogTitle>
        <p class="text-sm text-muted">{{ words.what }}</p>
        <p v-if="would.isPending.value" class="text-sm">Looking at the files …</p>
        <ErrorNote :error="would.error.value ?? does.error.value" />
        <template v-if="would.data.value && !does.data.value">
          <p class="font-medium">
            {{ counted(would.data.value.done.length, "entry", "entries")
            }}<template v-if="would.data.value.refused.length > 0"
              >; {{ would.data.value.refused.length }} cannot</template
            >.
          </p>
          <ul
            v-if="would.data.value.refused.length > 0"
            class="max-h-32 overflow-y-auto text-sm text-danger"
            tabindex="0"
          >
            <li v-for="refused in would.data.value.refused.slice(0, 50)" :key="refused.entry">
              Entry {{ refused.entry }}: {{ visible(refused.because) }}
            </li>
          </ul>
          <div v-if="outputs.length > 0" class="rounded-md bg-wait-soft px-3 py-2 text-sm text-wait">
            <p v-for="made in repeated.slice(0, 5)" :key="made.entry">
              Entry {{ made.entry }} is a repeat of entry {{ made.by }}, which was worked.
            </p>
            There already, and it stays:
            <p v-for="path in outputs.slice(0, 10)" :key="path" class="font-mono text-xs break-all">
              {{ visible(path) }}
            </p>
            <p v-if="rowsTwice > 0" class="mt-1 font-medium">{{ counted(rowsTwice, "row") }} would stand twice.</p>
            <label v-if="repeated.length > 0" class="mt-2 flex items-center gap-2">
              <input v-model="twice" type="checkbox" />
              Work it all the same
            </label>
          </div>
          <WhoAndWhy v-if="would.data.value.done.length > 0" v-model="why" />
        </template>
        <p v-if="does.data.value" role="status" class="font-medium">{{ told(action, does.data.value) }}</p>
        <div class="flex justify-end gap-2">
          <button class="button" @click="open = false">{{ does.data.value ? "Close" : "Leave it" }}</button>
          <button
            v-if="!does.data.value"
            class="button button-main"
            :disabled="!ready || does.isPending.value"
            @click="does.mutate(all)"
          >
            {{ words.yes }}
          </button>
        </div>
      </DialogPanel>
    </div>
  </Dialog>
</template>
