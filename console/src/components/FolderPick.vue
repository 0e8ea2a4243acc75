<script setup lang="ts">
import { ref, watch } from "vue";
import { useFolder } from "../composables/useNewGate";
import { count, counted, size, visible } from "../support/format";
import EmptyNote from "./EmptyNote.vue";
import ErrorNote from "./ErrorNote.vue";
import TimeAgo from "./TimeAgo.vue";

/** A folder of this machine is picked by looking, with a file in it that is one of many to come. */
const taken = defineModel<{ folder: string; sample: string | null } | null>({ required: true });
const path = ref("");
const { data, error } = useFolder(() => path.value);
const heading = ref<HTMLElement>();
// What was gone to is read out, and what was pressed is no more.
watch(data, (now, before) => before && now?.path !== before.path && heading.value?.focus());
const take = (sample: string | null) => data.value?.path && (taken.value = { folder: data.value.path, sample });
const isTaken = (name: string | null) =>
  taken.value !== null && taken.value.folder === data.value?.path && taken.value.sample === name;
</script>

<template>
  <section class="panel min-w-0" aria-labelledby="folder">
    <div class="border-b border-line px-4 py-2.5">
      <h2 id="folder" class="font-semibold">Where files arrive</h2>
      <p class="text-sm text-muted">Look for the folder, and choose a file that is like those to come.</p>
    </div>
    <ErrorNote v-if="error" :error="error" class="m-4" />
    <button v-if="error" class="button mx-4 mb-4" @click="path = ''">Begin again</button>
    <template v-if="data && !error">
      <div class="flex flex-wrap items-center gap-2 border-b border-line px-4 py-2 text-sm">
        <span ref="heading" tabindex="-1" class="min-w-0 flex-1 font-mono break-all">{{
          data.path ? visible(data.path) : "The roots of this service"
        }}</span>
        <button v-if="data.above" class="button" @click="path = data.above">Up</button>
        <button v-if="data.path" class="button" :aria-pressed="isTaken(null)" @click="take(null)">
          Take it without a sample
        </button>
      </div>
      <ul class="max-h-80 divide-y divide-line overflow-y-auto text-sm" tabindex="0" aria-label="What lies there">
        <li v-for="folder in data.folders" :key="folder.path">
          <button class="flex w-full gap-3 px-4 py-1.5 text-left hover:bg-raised" @click="path = folder.path">
            <span aria-hidden="true">▸</span>
            <span class="min-w-0 flex-1 font-medium break-all">{{ visible(folder.name) }}</span>
            <span v-if="folder.gates.length > 0" class="text-muted"
              >{{ folder.gates.length === 1 ? "gate" : "gates" }} {{ folder.gates.map(visible).join(", ") }}</span
            >
          </button>
        </li>
        <li v-for="file in data.files" :key="file.name">
          <button
            class="flex w-full flex-wrap gap-x-3 px-4 py-1.5 text-left hover:bg-raised"
            :class="{ 'bg-raised': isTaken(file.name) }"
            :aria-pressed="isTaken(file.name)"
            @click="take(file.name)"
          >
            <span class="w-3 shrink-0" aria-hidden="true">{{ isTaken(file.name) ? "✓" : "" }}</span>
            <span class="min-w-0 flex-1 break-all">{{ visible(file.name) }}</span>
            <span class="text-muted">{{ size(file.bytes) }}</span>
            <TimeAgo v-if="file.modified" class="w-24 text-right text-muted" :at="file.modified" />
          </button>
        </li>
      </ul>
      <EmptyNote v-if="data.folder_count + data.file_count === 0" title="Nothing lies here.">
        Take it without a sample: the gate takes every file, until you say which.
      </EmptyNote>
      <p
        v-else-if="data.folders.length < data.folder_count || data.files.length < data.file_count"
        class="border-t border-line px-4 py-2 text-xs text-muted"
      >
        The first {{ count(data.folders.length + data.files.length) }} of {{ counted(data.folder_count, "folder") }} and
        {{ counted(data.file_count, "file") }}.
      </p>
    </template>
  </section>
</template>
