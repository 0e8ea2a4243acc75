<script setup lang="ts">
import { computed, ref } from "vue";
import { useHold } from "../composables/useHold";
import { useMay } from "../composables/useMe";
import { useFiles } from "../composables/useQueries";
import { counted } from "../support/format";
import type { Verdict } from "../support/types";
import AdoptDialog from "./AdoptDialog.vue";
import EmptyNote from "./EmptyNote.vue";
import ErrorNote from "./ErrorNote.vue";
import FileTable from "./FileTable.vue";
import PickList from "./PickList.vue";

/** The drop folder as it is now, each file with the gate's verdict. */
const props = defineProps<{ gate: string }>();
const text = ref("");
const verdict = ref<Verdict | "all">("all");
const filter = computed(() => ({ text: text.value, verdict: verdict.value }));
const { data, error, hasNextPage, isFetching, isPlaceholderData, fetchNextPage } = useFiles(() => props.gate, filter);
const files = computed(() => data.value?.pages.flatMap((page) => page.files) ?? []);
const total = computed(() => data.value?.pages.at(-1)?.total ?? 0);
const narrowed = computed(() => text.value !== "" || verdict.value !== "all");

// It is not read again under the pointer, and a folder of very many only when it is wanted.
const MANY = 20_000;
const read = ref(false);
const { missed, freshen } = useHold("files", () => read.value || total.value > MANY);
const more = () => {
  if (hasNextPage.value && !isFetching.value) void fetchNextPage();
};

const adopting = ref(false);
const choices = [
  { value: "all", name: "all" },
  { value: "take", name: "take: the next pass takes it" },
  { value: "wait", name: "wait: not complete yet" },
  { value: "known", name: "known: it has an entry" },
  { value: "repeat", name: "repeat: came before" },
  { value: "leave", name: "leave: not for this gate" },
  { value: "unreadable", name: "unreadable" },
] as const;
const operator = useMay("operator");
</script>

<template>
  <section class="panel min-w-0" aria-labelledby="drop">
    <div class="flex flex-wrap items-center justify-between gap-2 border-b border-line px-4 py-2">
      <h2 id="drop" class="font-semibold">
        Drop folder
        <span v-if="data" class="ml-1 text-sm font-normal text-muted" role="status">{{ counted(total, "file") }}</span>
      </h2>
      <form class="flex flex-wrap gap-2" role="search" @submit.prevent>
        <input
          v-model.trim.lazy="text"
          type="search"
          class="field w-48"
          placeholder="Part of a name"
          aria-label="Search the drop folder"
        />
        <PickList v-model="verdict" label="Verdict" :choices="choices" />
        <button v-if="operator" type="button" class="button" @click="adopting = true">Adopt …</button>
        <AdoptDialog v-model="adopting" :gate="gate" />
      </form>
    </div>
    <ErrorNote :error="error" />
    <p v-if="missed" class="border-b border-line px-4 py-2 text-center" role="status">
      <button class="button" @click="freshen">The folder has changed: read it again</button>
    </p>
    <div
      v-if="files.length > 0"
      :class="{ 'opacity-60': isPlaceholderData }"
      @pointerenter="read = true"
      @pointerleave="read = false"
    >
      <FileTable :files="files" :about="[gate, filter]" @end="more" />
    </div>
    <EmptyNote v-else-if="data && narrowed" title="No file is so."> Search for less, or another verdict. </EmptyNote>
    <EmptyNote v-else-if="data" title="The drop folder is empty.">
      Everything that came has been filed. What arrives next appears here by itself.
    </EmptyNote>
    <p v-else-if="!error" class="px-4 py-8 text-center text-muted" role="status">Reading the folder …</p>
  </section>
</template>
