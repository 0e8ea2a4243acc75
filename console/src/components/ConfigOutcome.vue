<script setup lang="ts">
import { computed } from "vue";
import { count, visible } from "../support/format";
import type { TriedConfig } from "../support/types";

/** What an edited configuration would come to: its faults, or what would be otherwise. */
const props = defineProps<{ tried: TriedConfig; path: string }>();
const emit = defineEmits<{ go: [line: number] }>();
const gates = computed(() =>
  [
    { words: "new", names: props.tried.added },
    { words: "with other rules", names: props.tried.changed },
    { words: "no more", names: props.tried.removed },
  ].filter(({ names }) => names.length > 0),
);
const nameOf = (path: string) => visible(path.split("/").at(-1) ?? path);
</script>

<template>
  <section class="panel min-w-0" aria-labelledby="outcome">
    <h2 id="outcome" class="border-b border-line px-4 py-2.5 font-semibold" role="status">
      <span v-if="tried.faults.length > 0" class="text-danger">
        {{ count(tried.faults.length) }} {{ tried.faults.length === 1 ? "fault" : "faults" }}
      </span>
      <span v-else-if="gates.length > 0">What would be otherwise</span>
      <span v-else class="text-good">It is right, and no gate would be otherwise</span>
    </h2>
    <ul
      v-if="tried.faults.length > 0"
      class="max-h-64 divide-y divide-line overflow-y-auto text-sm"
      tabindex="0"
      aria-label="Faults"
    >
      <li v-for="(fault, at) in tried.faults" :key="at" class="px-4 py-2 [overflow-wrap:anywhere]">
        <button v-if="fault.file === path" class="link" @click="emit('go', fault.line)">line {{ fault.line }}</button>
        <span v-else class="text-muted">{{ nameOf(fault.file) }}, line {{ fault.line }}</span>
        <span class="ml-2">{{ visible(fault.message) }}</span>
      </li>
    </ul>
    <div v-else-if="gates.length > 0" class="space-y-2 px-4 py-3 text-sm">
      <p v-for="{ words, names } in gates" :key="words">
        <b>{{ names.map(visible).join(", ") }}</b> <span class="text-muted">{{ words }}</span>
      </p>
      <p>
        Of the files that lie there now <b>{{ count(tried.taken_count) }}</b> would be taken that are not, and
        <b>{{ count(tried.left_count) }}</b> not any more that are<template v-if="tried.more"
          >, of the first that were looked at</template
        >.
      </p>
      <ul v-if="tried.files.length > 0" class="max-h-56 overflow-y-auto" tabindex="0" aria-label="Files">
        <li v-for="file in tried.files" :key="file.gate + file.path" class="py-0.5 [overflow-wrap:anywhere]">
          <span :class="file.taken ? 'text-good' : 'text-danger'">{{ file.taken ? "taken" : "left" }}</span>
          {{ nameOf(file.path) }} <span class="text-muted">{{ file.gate }}</span>
          <span v-if="file.because" class="block text-xs text-muted">{{ visible(file.because) }}</span>
        </li>
      </ul>
    </div>
  </section>
</template>
