<script setup lang="ts">
import { computed, onScopeDispose, ref, useTemplateRef, watch } from "vue";
import { onBeforeRouteLeave, useRouter } from "vue-router";
import ConfigEditor from "../components/ConfigEditor.vue";
import ConfigOutcome from "../components/ConfigOutcome.vue";
import ConfigSave from "../components/ConfigSave.vue";
import EmptyNote from "../components/EmptyNote.vue";
import ErrorNote from "../components/ErrorNote.vue";
import FolderPick from "../components/FolderPick.vue";
import PatternPick from "../components/PatternPick.vue";
import WorkPick from "../components/WorkPick.vue";
import { useConfigKeys, useTriedConfig } from "../composables/useConfiguration";
import { useNewGate } from "../composables/useNewGate";
import { visible } from "../support/format";

/** A gate is made from a folder and a file in it; what is written for it is shown, tried, and saved. */
const { taken, proposal, form, written, text, byHand, writeAnew, error } = useNewGate();
const { data: keys } = useConfigKeys();
const router = useRouter();

// Tried when the typing rests.
const asked = ref<{ path: string; text: string } | null>(null);
let timer: ReturnType<typeof setTimeout> | undefined;
watch([text, written], () => {
  clearTimeout(timer);
  if (!written.value) return;
  const edited = { path: written.value.path, text: text.value };
  timer = setTimeout(() => (asked.value = edited), 350);
});
onScopeDispose(() => clearTimeout(timer));
const { data: tried, error: tryError } = useTriedConfig(asked);
const faults = computed(() => (tried.value?.faults ?? []).filter((fault) => fault.file === written.value?.path));
const current = computed(() => asked.value?.text === text.value && asked.value.path === written.value?.path);
const ready = computed(() => current.value && tried.value?.faults.length === 0 && tried.value.added.length > 0);

const editor = useTemplateRef("editor");
const saving = ref(false);
let saved = false;
/** The gate's name as it is saved: once it is in force it is new no more. */
let name: string | undefined;
function ask() {
  name = tried.value?.added[0];
  saving.value = true;
}
async function done() {
  saved = true;
  await router.push(name ? { name: "gate", params: { gate: name } } : { name: "gates" });
}
onBeforeRouteLeave(() => saved || taken.value === null || window.confirm("The gate is not saved. Leave it?"));
</script>

<template>
  <div class="mb-3 flex flex-wrap items-center gap-3">
    <div class="mr-auto">
      <h1 class="text-2xl font-semibold">A new gate</h1>
      <p class="text-sm text-muted">
        From a folder and a file in it. Nothing is in force, and no file is touched, before you save it.
      </p>
    </div>
    <button class="button button-main" :disabled="!ready" @click="ask">Save …</button>
  </div>
  <ErrorNote :error="error ?? tryError" class="mb-3" />
  <div class="grid min-w-0 items-start gap-4 lg:grid-cols-2">
    <div class="grid min-w-0 gap-4">
      <FolderPick v-model="taken" />
      <template v-if="proposal">
        <PatternPick v-model:name="form.name" v-model:pattern="form.pattern" :proposal="proposal" />
        <WorkPick :model-value="form" :proposal="proposal" />
      </template>
    </div>
    <div class="grid min-w-0 gap-4 lg:sticky lg:top-20">
      <section class="panel min-w-0" aria-labelledby="text">
        <h2 id="text" class="border-b border-line px-4 py-2.5 font-semibold">
          What will stand in the configuration
          <span v-if="written" class="block font-mono text-xs font-normal break-all text-muted">{{
            visible(written.path)
          }}</span>
        </h2>
        <template v-if="written">
          <p
            v-if="byHand"
            class="flex flex-wrap items-center gap-2 bg-wait-soft px-4 py-2 text-sm text-wait"
            role="status"
          >
            You have written in it: what you choose on the left is not taken over any more.
            <button class="button" @click="writeAnew">Write it anew</button>
          </p>
          <ConfigEditor ref="editor" v-model="text" :faults="faults" :keys="keys ?? []" label="The new gate" />
        </template>
        <EmptyNote v-else title="Choose a folder first.">
          A pattern for its names, the columns of its tables, and an archive are then proposed.
        </EmptyNote>
      </section>
      <ConfigOutcome v-if="tried && written" :tried="tried" :path="written.path" @go="(line) => editor?.goTo(line)" />
    </div>
  </div>
  <ConfigSave
    v-if="written"
    v-model="saving"
    :file="{ path: written.path, text: '', sha256: '' }"
    is-new
    :text="text"
    @saved="done"
  />
</template>
