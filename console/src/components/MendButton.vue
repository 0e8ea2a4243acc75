<script setup lang="ts">
import { useMutation, useQueryClient } from "@tanstack/vue-query";
import { useTemplateRef } from "vue";
import { useSigner } from "../composables/useMe";
import { useWho } from "../composables/useWho";
import { handIn } from "../support/handIn";
import type { EntryDetail, HandedIn } from "../support/types";
import ErrorNote from "./ErrorNote.vue";

/** A mended file is handed in, in the place of a held one, which goes to the archive as it is. */
const props = defineProps<{ entry: EntryDetail }>();
const emit = defineEmits<{ mended: [became: HandedIn] }>();
const queries = useQueryClient();
const signer = useSigner();
const who = useWho();
const chooser = useTemplateRef("chooser");
const mend = useMutation({
  mutationFn: (file: File) =>
    handIn(props.entry.gate, props.entry.place ?? props.entry.path, file, {
      who: signer.who(),
      replaces: props.entry.sha256,
    }),
  onSuccess: (became) => emit("mended", became),
  onSettled: () => queries.invalidateQueries(),
});
function chosen(event: Event) {
  const input = event.target as HTMLInputElement;
  const file = input.files?.[0];
  if (file) mend.mutate(file);
  input.value = "";
}
</script>

<template>
  <div class="space-y-2">
    <div class="flex flex-wrap items-center gap-2">
      <input
        v-if="signer.named.value === null"
        v-model="who"
        class="field w-36"
        placeholder="Your name"
        autocomplete="name"
        aria-label="Who mends it"
      />
      <input ref="chooser" type="file" class="sr-only" tabindex="-1" aria-label="The mended file" @change="chosen" />
      <button
        class="button"
        :disabled="!signer.ready.value || mend.isPending.value || entry.place === null"
        @click="chooser?.click()"
      >
        {{ mend.isPending.value ? "Handing it in …" : "Hand in a mended file …" }}
      </button>
      <a class="button" :href="`/api/v1/entries/${entry.id}/file`" download>Download it</a>
    </div>
    <ErrorNote :error="mend.error.value" />
  </div>
</template>
