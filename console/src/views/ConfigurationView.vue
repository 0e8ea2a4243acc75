<script setup lang="ts">
import { computed, onScopeDispose, ref, useTemplateRef, watch } from "vue";
import { onBeforeRouteLeave, RouterLink } from "vue-router";
import ConfigEditor from "../components/ConfigEditor.vue";
import ConfigHelp from "../components/ConfigHelp.vue";
import ConfigHistory from "../components/ConfigHistory.vue";
import ConfigOutcome from "../components/ConfigOutcome.vue";
import ConfigSave from "../components/ConfigSave.vue";
import ErrorNote from "../components/ErrorNote.vue";
import PickList from "../components/PickList.vue";
import { useConfigFiles, useConfigKeys, useTriedConfig } from "../composables/useConfiguration";
import { visible } from "../support/format";
import type { Place } from "../support/tomlAt";

/** The configuration: seen with explanations, edited, tried as one types, and saved. */
const { data: files, error } = useConfigFiles();
const { data: keys } = useConfigKeys();
const path = ref("");
const text = ref("");
/** What it is edited from: that of the time when it was opened, whatever stands there by now. */
const file = ref<{ path: string; text: string; sha256: string } | null>(null);
const edited = computed(() => file.value !== null && text.value !== file.value.text);
const elsewhere = computed(() => {
  const now = files.value?.find((one) => one.path === path.value);
  return now !== undefined && file.value !== null && now.sha256 !== file.value.sha256;
});
const choices = computed(() =>
  (files.value ?? []).map((one) => ({ value: one.path, name: visible(one.path.split("/").at(-1) ?? one.path) })),
);
function show(wanted: string) {
  const found = files.value?.find((one) => one.path === wanted);
  if (!found) return;
  path.value = found.path;
  file.value = { ...found };
  text.value = found.text;
}
watch(files, (all) => {
  if (file.value === null && all?.[0]) show(all[0].path);
  else if (!edited.value) show(path.value);
});

// Tried when the typing rests.
const asked = ref<{ path: string; text: string } | null>(null);
let timer: ReturnType<typeof setTimeout> | undefined;
watch([text, path], () => {
  clearTimeout(timer);
  timer = setTimeout(() => (asked.value = { path: path.value, text: text.value }), 350);
});
onScopeDispose(() => clearTimeout(timer));
const { data: tried, error: tryError } = useTriedConfig(asked);
const faults = computed(() => (tried.value?.faults ?? []).filter((fault) => fault.file === path.value));
const current = computed(() => asked.value?.text === text.value && asked.value.path === path.value);

const editor = useTemplateRef("editor");
const place = ref<Place>({ section: "", key: "", writing: false });
const saving = ref(false);
/** After it was saved, what is edited is what stands there. */
function saved(sha256: string) {
  file.value = { path: path.value, text: text.value, sha256 };
}
function earlier(of: string, was: string) {
  if (of !== path.value) show(of);
  text.value = was;
  window.scrollTo({ top: 0 });
}
onBeforeRouteLeave(() => !edited.value || window.confirm("What you have changed is not saved. Leave it?"));
const warn = (event: BeforeUnloadEvent) => edited.value && event.preventDefault();
window.addEventListener("beforeunload", warn);
onScopeDispose(() => window.removeEventListener("beforeunload", warn));
</script>

<template>
  <div class="mb-3 flex flex-wrap items-center gap-3">
    <h1 class="mr-auto text-2xl font-semibold">Configuration</h1>
    <PickList
      v-if="choices.length > 1"
      :model-value="path"
      label="File"
      :choices="choices"
      @update:model-value="show"
    />
    <RouterLink :to="{ name: 'new-gate' }" class="button">New gate …</RouterLink>
    <button class="button" :disabled="!edited" @click="text = file?.text ?? ''">Take back</button>
    <button
      class="button button-main"
      :disabled="!edited || !current || (tried?.faults.length ?? 1) > 0"
      @click="saving = true"
    >
      Save …
    </button>
  </div>
  <ErrorNote :error="error ?? tryError" />
  <p v-if="elsewhere && edited" class="mb-3 rounded-md bg-wait-soft px-3 py-2 text-sm text-wait" role="alert">
    The file was changed by somebody else meanwhile. What you have here is not saved over it: copy your change, and
    <button class="underline" @click="show(path)">look at the file anew</button>.
  </p>
  <p v-if="!files && !error" class="text-muted" role="status">Reading the configuration …</p>
  <div v-if="file" class="grid min-w-0 items-start gap-4 lg:grid-cols-5">
    <section class="panel min-w-0 lg:col-span-3" aria-label="The file">
      <p class="border-b border-line px-4 py-2 font-mono text-xs break-all text-muted">{{ visible(path) }}</p>
      <ConfigEditor
        ref="editor"
        :key="path"
        v-model="text"
        :faults="faults"
        :keys="keys ?? []"
        label="The configuration"
        @place="(now) => (place = now)"
      />
    </section>
    <div class="grid min-w-0 gap-4 lg:col-span-2">
      <ConfigHelp :keys="keys ?? []" :place="place" />
      <ConfigOutcome v-if="tried" :tried="tried" :path="path" @go="(line) => editor?.goTo(line)" />
    </div>
  </div>
  <ConfigHistory class="mt-4" @text="earlier" />
  <ConfigSave v-if="file" v-model="saving" :file="file" :is-new="false" :text="text" @saved="saved" />
</template>
