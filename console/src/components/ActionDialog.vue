<script setup lang="ts">
import { useMutation, useQueryClient } from "@tanstack/vue-query";
import { computed, ref, watch } from "vue";
import { useSigner } from "../composables/useMe";
import { post } from "../support/api";
import { ACTIONS, told } from "../support/actions";
import type { EntryAction, Done, EntryQuery } from "../support/types";
import ActionPreview from "./ActionPreview.vue";
import ErrorNote from "./ErrorNote.vue";
import ModalForm from "./ModalForm.vue";
import RefusedList from "./RefusedList.vue";
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
const repeated = computed(() => (would.data.value?.made ?? []).some((made) => made.by !== made.entry));
const ready = computed(
  () =>
    would.data.value &&
    would.data.value.done.length > 0 &&
    signer.ready.value &&
    why.value.trim() !== "" &&
    (!repeated.value || twice.value),
);
</script>

<template>
  <ModalForm
    v-model="open"
    :title="words.title"
    :yes="does.data.value ? undefined : words.yes"
    :no="does.data.value ? 'Close' : undefined"
    :ready="Boolean(ready) && !does.isPending.value"
    :typed="!does.data.value && why !== ''"
    :danger="action === 'delete' || action === 'unload'"
    wide
    @yes="does.mutate(all)"
  >
    <p class="text-sm text-muted">{{ words.what }}</p>
    <p v-if="would.isPending.value" class="text-sm">Looking at the files …</p>
    <ErrorNote :error="would.error.value ?? does.error.value" />
    <template v-if="would.data.value && !does.data.value">
      <ActionPreview v-model:twice="twice" :would="would.data.value" :names="action === 'delete'" />
      <WhoAndWhy v-if="would.data.value.done.length > 0" v-model="why" />
    </template>
    <template v-if="does.data.value">
      <p role="status" class="font-medium">{{ told(action, does.data.value) }}</p>
      <RefusedList :refused="does.data.value.refused" />
    </template>
  </ModalForm>
</template>
