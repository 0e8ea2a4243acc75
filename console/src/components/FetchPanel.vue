<script setup lang="ts">
import { computed, ref } from "vue";
import { RouterLink } from "vue-router";
import { useMay } from "../composables/useMe";
import { usePlaceFolder } from "../composables/useQueries";
import { count, counted, size, visible } from "../support/format";
import type { Fetch } from "../support/types";
import ErrorNote from "./ErrorNote.vue";
import FactList from "./FactList.vue";
import TimeAgo from "./TimeAgo.vue";

/** The place from which a gate fetches: how it stands, and what lies there. */
const props = defineProps<{ fetch: Fetch; gate: string }>();
const operator = useMay("operator");
const looking = ref(false);
const folder = ref(fixedPart(props.fetch.folder));
const { data: listed, error, isFetching } = usePlaceFolder(() => props.fetch.place, folder, looking);

/** The part of a path with fields that is there as it is written. */
function fixedPart(path: string): string {
  const parts = path.split("/");
  const fields = parts.findIndex((part) => /[<*?[{]/.test(part));
  return (fields < 0 ? parts : parts.slice(0, fields)).join("/");
}

const above = computed(() => folder.value.split("/").slice(0, -1).join("/"));
const after = computed(() => (props.fetch.after === "left" ? "it stays there" : `${props.fetch.after} there`));
const facts = computed(() => [
  { name: "Place", value: props.fetch.place, code: true },
  {
    name: "Folder",
    value: props.fetch.folder === "" ? "that of its address" : props.fetch.folder,
    code: props.fetch.folder !== "",
  },
  { name: "Once filed", value: after.value },
  { name: "Waiting there", value: counted(props.fetch.waiting, "file") },
  { name: "Doing", value: props.fetch.doing ?? "at rest" },
]);
</script>

<template>
  <section class="panel min-w-0" aria-labelledby="fetched">
    <h2
      id="fetched"
      class="flex flex-wrap items-baseline justify-between gap-x-4 border-b border-line px-4 py-2.5 font-semibold"
    >
      Fetched from a place
      <span class="flex gap-4 text-sm font-normal text-muted">
        <span>looked at <TimeAgo :at="fetch.looked_at" /></span>

        <RouterLink :to="{ name: 'ledger', query: { gate } }" class="link">what was fetched</RouterLink>
      </span>
    </h2>
    <div class="p-4"><FactList :facts="facts" /></div>
    <div v-if="operator" class="border-t border-line px-4 py-3 text-sm">
      <button v-if="!looking" type="button" class="link" @click="looking = true">Look at what lies there</button>
      <template v-else>
        <p class="mb-2 flex flex-wrap items-baseline gap-x-3">
          <span class="font-mono text-xs [overflow-wrap:anywhere]">{{ listed?.at }}/{{ visible(folder) }}</span>
          <button v-if="folder !== ''" type="button" class="link" @click="folder = above">one up</button>
          <span v-if="listed" class="text-muted">{{ counted(listed.count, "name") }}, {{ size(listed.bytes) }}</span>
          <span v-if="isFetching" class="text-muted" role="status">the place is asked…</span>
        </p>
        <ErrorNote :error="error" />
        <ul v-if="listed" class="max-h-64 divide-y divide-line overflow-y-auto" aria-label="What lies there">
          <li v-for="file in listed.files" :key="file.path" class="flex justify-between gap-4 py-1">
            <button
              v-if="file.kind === 'folder'"
              type="button"
              class="link [overflow-wrap:anywhere]"
              @click="folder = file.path"
            >
              {{ visible(file.name) }}/
            </button>
            <span v-else class="[overflow-wrap:anywhere]">{{ visible(file.name) }}</span>
            <span class="text-right whitespace-nowrap text-muted">
              <template v-if="file.kind === 'file'">{{ size(file.bytes) }}, <TimeAgo :at="file.modified" /></template>
              <template v-else-if="file.kind === 'other'">no file</template>
            </span>
          </li>
          <li v-if="listed.files.length === 0" class="py-1 text-muted">The folder is empty.</li>
          <li v-if="listed.count > listed.files.length" class="py-1 text-muted">
            … and {{ count(listed.count - listed.files.length) }} more
          </li>
        </ul>
      </template>
    </div>
  </section>
</template>
