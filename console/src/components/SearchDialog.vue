<script setup lang="ts">
import {
  Combobox,
  ComboboxInput,
  ComboboxOption,
  ComboboxOptions,
  Dialog,
  DialogPanel,
  DialogTitle,
} from "@headlessui/vue";
import { keepPreviousData, useQuery } from "@tanstack/vue-query";
import { computed, onScopeDispose, ref, watch } from "vue";
import { useRouter } from "vue-router";
import { get } from "../support/api";
import { visible } from "../support/format";
import { KINDS, inLedger, placeOf } from "../support/search";
import type { Hit } from "../support/types";
import ErrorNote from "./ErrorNote.vue";

/** One search over all that there is; also by `/` and Ctrl-K. */
const router = useRouter();
const open = ref(false);
const text = ref("");
const asked = ref("");
let timer: ReturnType<typeof setTimeout> | undefined;
// Asked when the typing rests.
watch(text, (now) => {
  clearTimeout(timer);
  timer = setTimeout(() => (asked.value = now.trim()), 200);
});
const { data, error, isFetching } = useQuery({
  queryKey: ["search", asked],
  queryFn: () => get<Hit[]>("/search", { text: asked.value }),
  enabled: () => open.value && asked.value !== "",
  placeholderData: keepPreviousData,
  refetchInterval: false,
});
const hits = computed(() => (asked.value === "" ? [] : (data.value ?? [])));

function show() {
  text.value = asked.value = "";
  open.value = true;
}
/** What was found, or all of it in the ledger. */
function go(hit: Hit | "ledger" | null) {
  if (hit === null) return;
  open.value = false;
  void router.push(hit === "ledger" ? inLedger(asked.value) : placeOf(hit));
}

function pressed(event: KeyboardEvent) {
  const typing =
    event.target instanceof HTMLElement && event.target.closest("input, textarea, select, [contenteditable]");
  const wanted =
    (event.key === "/" && !typing) || (event.key.toLowerCase() === "k" && (event.ctrlKey || event.metaKey));
  if (!wanted || open.value) return;
  event.preventDefault();
  show();
}
window.addEventListener("keydown", pressed);
onScopeDispose(() => {
  window.removeEventListener("keydown", pressed);
  clearTimeout(timer);
});
</script>

<template>
  <button class="button px-2" aria-keyshortcuts="/ Control+K" title="Search: / or Ctrl-K" @click="show">
    <svg viewBox="0 0 20 20" class="size-4" fill="none" stroke="currentColor" stroke-width="1.8" aria-hidden="true">
      <circle cx="9" cy="9" r="5.5" />
      <path d="m13.5 13.5 4 4" stroke-linecap="round" />
    </svg>
    <span class="max-md:sr-only">Search</span>
  </button>
  <Dialog :open="open" class="relative z-30" @close="open = false">
    <div class="fixed inset-0 bg-black/50" aria-hidden="true" />
    <div class="fixed inset-0 flex items-start justify-center p-4 pt-[10vh]">
      <DialogPanel class="panel flex max-h-[75vh] w-full max-w-2xl flex-col shadow-xl">
        <DialogTitle class="sr-only">Search</DialogTitle>
        <Combobox :model-value="null" as="div" class="flex min-h-0 flex-col" @update:model-value="go">
          <ComboboxInput
            class="field m-3"
            placeholder="Entry, path, wildcard, sum, field=value, gate, output, or words of a reason"
            aria-label="Search"
            autocomplete="off"
            @change="text = $event.target.value"
          />
          <div class="px-3"><ErrorNote :error="error" /></div>
          <ComboboxOptions
            v-if="asked !== '' && (hits.length > 0 || !isFetching)"
            static
            class="min-h-0 overflow-y-auto border-t border-line p-1"
          >
            <ComboboxOption
              v-for="(hit, at) in hits"
              :key="`${asked} ${at}`"
              v-slot="{ active }"
              :value="hit"
              as="template"
            >
              <li class="flex gap-3 rounded-md px-3 py-2 text-sm" :class="{ 'bg-raised': active }">
                <span class="w-16 shrink-0 text-muted">{{ KINDS[hit.kind] }}</span>
                <span class="min-w-0 [overflow-wrap:anywhere]">
                  <span class="font-medium">{{ visible(hit.title) }}</span>
                  <span class="block text-muted">{{ visible(hit.words) }}</span>
                </span>
              </li>
            </ComboboxOption>
            <ComboboxOption v-slot="{ active }" value="ledger" as="template">
              <li class="flex gap-3 rounded-md px-3 py-2 text-sm" :class="{ 'bg-raised': active }">
                <span class="w-16 shrink-0 text-muted">ledger</span>
                <span>{{
                  hits.length > 0 ? "All entries that fit" : "Nothing of that is known; look through all entries"
                }}</span>
              </li>
            </ComboboxOption>
          </ComboboxOptions>
          <p v-else class="border-t border-line px-4 py-3 text-sm text-muted">
            {{ isFetching ? "Looking …" : "For example: ullin-bay, 42, *_20260301*.csv, station=haven" }}
          </p>
        </Combobox>
      </DialogPanel>
    </div>
  </Dialog>
</template>
