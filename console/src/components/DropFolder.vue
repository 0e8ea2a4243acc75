<script setup lang="ts">
import { computed, ref } from "vue";
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
const { data, error } = useFiles(() => props.gate);

const adopting = ref(false);
const verdict = ref<Verdict | "all">("all");
const choices = [
  { value: "all", name: "all" },
  { value: "take", name: "take: the next pass takes it" },
  { value: "wait", name: "wait: not complete yet" },
  { value: "known", name: "known: it has an entry" },
  { value: "repeat", name: "repeat: came before" },
  { value: "leave", name: "leave: not for this gate" },
  { value: "unreadable", name: "unreadable" },
] as const;
// Folders are listed by the command line; here they would only be in the way.
const operator = useMay("operator");
const all = computed(() => (data.value?.files ?? []).filter((file) => file.kind !== "folder"));
const shown = computed(() => all.value.filter((file) => verdict.value === "all" || file.verdict === verdict.value));
</script>

<template>
  <section class="panel min-w-0" aria-labelledby="drop">
    <div class="flex flex-wrap items-center justify-between gap-2 border-b border-line px-4 py-2">
      <h2 id="drop" class="font-semibold">
        Drop folder
        <span v-if="data" class="ml-1 text-sm font-normal text-muted">{{ counted(all.length, "file") }}</span>
      </h2>
      <div class="flex flex-wrap gap-2">
        <PickList v-model="verdict" label="Verdict" :choices="choices" />
        <button v-if="operator" class="button" @click="adopting = true">Adopt …</button>
        <AdoptDialog v-model="adopting" :gate="gate" />
      </div>
    </div>
    <ErrorNote :error="error" />
    <FileTable v-if="shown.length > 0" :files="shown" />
    <EmptyNote v-else-if="data && all.length > 0" title="No file has this verdict."> Choose another above. </EmptyNote>
    <EmptyNote v-else-if="data" title="The drop folder is empty.">
      Everything that came has been filed. What arrives next appears here by itself.
    </EmptyNote>
    <p v-if="data?.next" class="border-t border-line px-4 py-2 text-sm text-muted">
      The first {{ data.files.length }} of {{ data.total }} are shown; <code>vadegate files {{ gate }}</code> lists them
      all.
    </p>
  </section>
</template>
