<script setup lang="ts">
import { useMutation, useQueryClient } from "@tanstack/vue-query";
import { computed, ref } from "vue";
import { useMay, useSigner } from "../composables/useMe";
import { post } from "../support/api";
import { counted } from "../support/format";
import type { Gate, PassReport } from "../support/types";
import AskDialog from "./AskDialog.vue";
import ErrorNote from "./ErrorNote.vue";

const props = defineProps<{ gate: Gate }>();
const queries = useQueryClient();
const path = computed(() => `/gates/${encodeURIComponent(props.gate.name)}`);
const asking = ref(false);
const may = useMay("operator");
const signer = useSigner();
const by = () => {
  const who = signer.who()?.trim();
  return who ? `?who=${encodeURIComponent(who)}` : "";
};

const pass = useMutation({
  mutationFn: () => post<PassReport>(`${path.value}/pass`),
  onSettled: () => queries.invalidateQueries(),
});
const pause = useMutation({
  mutationFn: (paused: boolean) => post<Gate>(`${path.value}/${paused ? "pause" : "resume"}${by()}`),
  onSettled: () => queries.invalidateQueries(),
});
const told = computed(() => {
  const report = pass.data.value;
  if (!report) return "";
  const parts = [`${counted(report.entered, "file")} entered`, `${report.worked} worked`, `${report.filed} filed`];
  if (report.held > 0) parts.push(`${report.held} held`);
  if (report.arriving > 0) parts.push(`${report.arriving} still arriving`);
  return `Pass done: ${parts.join(", ")}.`;
});
</script>

<template>
  <div v-if="may" class="flex flex-wrap items-center gap-2">
    <button class="button button-main" :disabled="pass.isPending.value" @click="pass.mutate()">
      {{ pass.isPending.value ? "Passing …" : "Pass now" }}
    </button>
    <button v-if="gate.paused" class="button" :disabled="pause.isPending.value" @click="pause.mutate(false)">
      Resume
    </button>
    <button v-else class="button" :disabled="pause.isPending.value" @click="asking = true">Pause …</button>
    <span role="status" class="text-sm text-muted">{{ told }}</span>
    <ErrorNote :error="pass.error.value ?? pause.error.value" />
    <AskDialog v-model="asking" :title="`Pause the gate ${gate.name}?`" yes="Pause" @yes="pause.mutate(true)">
      It goes on noticing what arrives, and takes nothing until it is resumed, even after a restart of the service. Work
      under way is finished.
    </AskDialog>
  </div>
</template>
