<script setup lang="ts">
import { configChange, useConfigChanges } from "../composables/useConfiguration";
import { visible } from "../support/format";
import EmptyNote from "./EmptyNote.vue";
import ErrorNote from "./ErrorNote.vue";
import TimeBeside from "./TimeBeside.vue";

/** Who has saved the configuration and why; an earlier one can be looked at, and saved again. */
const emit = defineEmits<{ text: [file: string, text: string] }>();
const { data, error } = useConfigChanges();
async function take(id: number) {
  const change = await configChange(id);
  emit("text", change.file, change.text ?? "");
}
const nameOf = (path: string) => visible(path.split("/").at(-1) ?? path);
</script>

<template>
  <section class="panel min-w-0" aria-labelledby="config-history">
    <h2 id="config-history" class="border-b border-line px-4 py-2.5 font-semibold">History</h2>
    <ErrorNote :error="error" />
    <ul v-if="data && data.length > 0" class="divide-y divide-line text-sm">
      <li v-for="change in data" :key="change.id" class="flex flex-wrap items-baseline gap-x-3 px-4 py-2">
        <TimeBeside :at="change.at" />
        <span class="font-mono text-xs">{{ nameOf(change.file) }}</span>
        <span class="min-w-0 flex-1 [overflow-wrap:anywhere]"
          >{{ visible(change.why) }} <span class="text-muted">{{ visible(change.who) }}</span></span
        >
        <button class="link" @click="take(change.id)">put into the editor</button>
      </li>
    </ul>
    <EmptyNote v-else-if="data" title="Nothing was saved here yet.">
      What is saved on this page is kept with who and why, and what stood there before.
    </EmptyNote>
  </section>
</template>
