<script setup lang="ts">
import { useMutation, useQueryClient } from "@tanstack/vue-query";
import { computed, ref, watch } from "vue";
import { useSigner } from "../composables/useMe";
import { post } from "../support/api";
import { counted, visible } from "../support/format";
import type { Adoption } from "../support/types";
import ErrorNote from "./ErrorNote.vue";
import ModalForm from "./ModalForm.vue";
import WhoAndWhy from "./WhoAndWhy.vue";

/** Enters what lies in the drop folder as already worked. */
const props = defineProps<{ gate: string }>();
const open = defineModel<boolean>({ required: true });
const queries = useQueryClient();
const signer = useSigner();
const why = ref("");
const pattern = ref("");

const order = (rehearse: boolean) =>
  post<Adoption>(`/gates/${encodeURIComponent(props.gate)}/adopt`, {
    pattern: pattern.value.trim() === "" ? null : pattern.value.trim(),
    who: signer.who(rehearse),
    why: rehearse ? "" : why.value,
    rehearse,
  });
const would = useMutation({ mutationFn: () => order(true) });
const does = useMutation({ mutationFn: () => order(false), onSettled: () => queries.invalidateQueries() });
watch(open, (now) => {
  if (!now) return;
  why.value = "";
  pattern.value = "";
  does.reset();
  would.mutate();
});
const ready = computed(
  () => (would.data.value?.adopted.length ?? 0) > 0 && signer.ready.value && why.value.trim() !== "",
);
</script>

<template>
  <ModalForm
    v-model="open"
    title="Adopt files as already worked?"
    :yes="does.data.value ? undefined : 'Adopt'"
    :no="does.data.value ? 'Close' : undefined"
    :ready="ready && !does.isPending.value"
    :typed="!does.data.value && (why !== '' || pattern !== '')"
    wide
    @yes="does.mutate()"
  >
    <p class="text-sm text-muted">
      For files that were worked before this gate was there. They stay where they are, get an entry, and the same
      content is never worked.
    </p>
    <ErrorNote :error="would.error.value ?? does.error.value" />
    <template v-if="!does.data.value">
      <label class="block">
        <span class="label mb-1 block">Only files that fit this pattern</span>
        <input
          v-model="pattern"
          class="field w-full font-mono"
          placeholder="all that the gate takes"
          aria-label="Pattern"
          @change="would.mutate()"
        />
      </label>
      <p v-if="would.isPending.value" class="text-sm">Reading the files …</p>
      <template v-else-if="would.data.value">
        <p class="font-medium">{{ counted(would.data.value.adopted.length, "file") }}.</p>
        <ul
          v-if="would.data.value.adopted.length > 0"
          class="max-h-32 overflow-y-auto text-sm text-muted"
          tabindex="0"
          aria-label="Files"
        >
          <li v-for="path in would.data.value.adopted.slice(0, 100)" :key="path">{{ visible(path) }}</li>
        </ul>
        <template v-if="would.data.value.left.length > 0">
          <p class="font-medium">Not adopted: {{ counted(would.data.value.left.length, "file") }}.</p>
          <ul class="max-h-32 overflow-y-auto text-sm text-muted" tabindex="0" aria-label="Files that are left">
            <li v-for="file in would.data.value.left.slice(0, 100)" :key="file.path">
              {{ visible(file.path) }}: {{ visible(file.because) }}
            </li>
          </ul>
        </template>
        <WhoAndWhy v-if="would.data.value.adopted.length > 0" v-model="why" />
      </template>
    </template>
    <p v-else role="status" class="font-medium">
      {{ counted(does.data.value.adopted.length, "file") }} entered as already worked.
    </p>
  </ModalForm>
</template>
