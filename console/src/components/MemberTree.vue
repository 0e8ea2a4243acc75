<script setup lang="ts">
import { computed } from "vue";
import { RouterLink } from "vue-router";
import { count, counted, size, visible } from "../support/format";
import type { Output } from "../support/types";

/** What came out of an archive, folder by folder; each file leads to the entry that it became. */
const props = defineProps<{ members: Output[]; folder: string; more: number }>();

const folders = computed(() => {
  const all = new Map<string, { name: string; output: Output }[]>();
  for (const output of props.members) {
    const below = output.path.startsWith(`${props.folder}/`) ? output.path.slice(props.folder.length + 1) : output.path;
    const at = below.lastIndexOf("/");
    const folder = at < 0 ? "" : below.slice(0, at);
    const files = all.get(folder) ?? [];
    files.push({ name: below.slice(at + 1), output });
    all.set(folder, files);
  }
  return [...all.entries()].sort(([a], [b]) => a.localeCompare(b));
});
</script>

<template>
  <div class="mt-2 max-h-96 overflow-auto rounded-md bg-raised px-3 py-2 text-sm" tabindex="0">
    <template v-for="[name, files] in folders" :key="name">
      <p v-if="name !== ''" class="mt-1 font-mono text-[0.8125rem] text-muted [overflow-wrap:anywhere]">
        {{ visible(name) }}/
      </p>
      <ul :class="name === '' ? '' : 'border-l border-line pl-3'">
        <li v-for="file in files" :key="file.output.path" class="flex flex-wrap justify-between gap-x-4">
          <RouterLink
            v-if="file.output.became"
            :to="{ name: 'entry', params: { id: file.output.became } }"
            class="link font-mono text-[0.8125rem] [overflow-wrap:anywhere]"
            :title="`Entry ${file.output.became}`"
            >{{ visible(file.name) }}</RouterLink
          >
          <span v-else class="font-mono text-[0.8125rem] [overflow-wrap:anywhere]">{{ visible(file.name) }}</span>
          <span class="text-muted">
            {{ file.output.bytes === null ? "" : size(file.output.bytes) }}
            {{
              file.output.mode === "create" ? "" : file.output.mode === "leave" ? "left, it is there" : file.output.mode
            }}
          </span>
        </li>
      </ul>
    </template>
    <p v-if="more > 0" class="mt-1 text-muted">
      and {{ counted(more, "more file") }} ({{ count(members.length) }} are shown)
    </p>
  </div>
</template>
