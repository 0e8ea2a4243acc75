<script setup lang="ts">
import { useMutation, useQueryClient } from "@tanstack/vue-query";
import { computed, ref } from "vue";
import { useMay, useSigner } from "../composables/useMe";
import { useNow } from "../composables/useNow";
import { post } from "../support/api";
import { count, counted, size, until, visible } from "../support/format";
import type { ClearRule, Cleared } from "../support/types";
import ClearDialog from "./ClearDialog.vue";
import ErrorNote from "./ErrorNote.vue";
import FactList from "./FactList.vue";

/** A rule by which files are cleared: what it says, what would go now, and doing it. */
const props = defineProps<{ rule: ClearRule }>();
const queries = useQueryClient();
const signer = useSigner();
const admin = useMay("admin");
const now = useNow();
const asking = ref(false);

const order = (rehearse: boolean, why: string) =>
  post<Cleared>("/clears", { name: props.rule.name, who: signer.who(rehearse), why, rehearse });
const would = useMutation({ mutationFn: () => order(true, "") });
const does = useMutation({
  mutationFn: (why: string) => order(false, why),
  onSuccess: () => would.reset(),
  onSettled: () => queries.invalidateQueries(),
});

const facts = computed(() => {
  const { rule } = props;
  const newest = rule.keep_newest === 1 ? "the newest" : `the newest ${rule.keep_newest}`;
  const keep = rule.keep_newest === null ? null : newest;
  const per = rule.keep_per ? ` of each ${rule.keep_per}` : "";
  return [
    { name: "Folders", value: rule.folders.map(visible).join(", ") },
    { name: "Files", value: rule.match.join(", ") },
    { name: "Left", value: rule.leave.length > 0 ? rule.leave.join(", ") : null },
    { name: "Older than", value: rule.older },
    { name: "Kept", value: keep === null ? null : keep + per },
    { name: "Moved to", value: rule.into },
    { name: "Runs", value: rule.runs ?? "when a person asks" },
  ].filter((fact): fact is { name: string; value: string } => fact.value !== null && fact.value !== undefined);
});
const files = computed(() => would.data.value?.removed ?? []);
/** The folder is told above: a path is shown below it, where there is one. */
const below = (path: string) => {
  const [folder, ...others] = props.rule.folders;
  const begin = `${folder}/`;
  return visible(others.length === 0 && path.startsWith(begin) ? path.slice(begin.length) : path);
};
const bytes = computed(() => files.value.reduce((all, file) => all + file.bytes, 0));
const stays = computed(() => would.data.value?.stays ?? []);
const verb = computed(() => (props.rule.into ? "move" : "remove"));
const told = computed(() => {
  const done = does.data.value;
  return done ? `${counted(done.removed.length, "file")} ${props.rule.into ? "moved" : "removed"}.` : "";
});
</script>

<template>
  <section class="panel min-w-0" :aria-labelledby="`clear-${rule.name}`">
    <div class="flex flex-wrap items-center justify-between gap-2 border-b border-line px-4 py-2">
      <h2 :id="`clear-${rule.name}`" class="font-semibold">
        {{ rule.name }}
        <span v-if="rule.next_at" class="ml-1 text-sm font-normal text-muted">
          next <time :datetime="rule.next_at">{{ until(rule.next_at, now) }}</time>
        </span>
      </h2>
      <div v-if="admin" class="flex flex-wrap items-center gap-2">
        <span role="status" class="text-sm text-muted">{{ told }}</span>
        <button class="button" :disabled="would.isPending.value" @click="would.mutate()">
          {{ would.isPending.value ? "Looking …" : "Rehearse" }}
        </button>
        <button class="button" :disabled="does.isPending.value || files.length === 0" @click="asking = true">
          Clear now …
        </button>
      </div>
    </div>
    <div class="space-y-3 p-4">
      <FactList :facts="facts" />
      <ErrorNote :error="would.error.value ?? does.error.value" />
      <p v-for="problem in does.data.value?.problems ?? []" :key="problem" class="text-sm text-danger">
        Not done: {{ visible(problem) }}
      </p>
      <div v-if="would.data.value" class="text-sm">
        <p class="font-medium">
          {{
            files.length === 0
              ? "Nothing would go."
              : `Would ${verb}: ${counted(files.length, "file")}, ${size(bytes)}.`
          }}
        </p>
        <ul v-if="files.length > 0" class="mt-1 max-h-48 overflow-y-auto" tabindex="0" aria-label="Files that would go">
          <li v-for="file in files.slice(0, 200)" :key="file.path" class="flex justify-between gap-x-4">
            <span class="font-mono text-[0.8125rem] [overflow-wrap:anywhere]">{{ below(file.path) }}</span>
            <span class="shrink-0 text-muted">{{ size(file.bytes) }}</span>
          </li>
          <li v-if="files.length > 200" class="text-muted">and {{ count(files.length - 200) }} more</li>
        </ul>
        <ul
          v-if="stays.length > 0"
          class="mt-2 max-h-32 overflow-y-auto text-muted"
          tabindex="0"
          aria-label="Files that stay"
        >
          <li v-for="file in stays.slice(0, 50)" :key="file.path" class="[overflow-wrap:anywhere]">
            <span class="font-mono text-[0.8125rem]">{{ below(file.path) }}</span> stays: {{ visible(file.because) }}
          </li>
          <li v-if="stays.length > 50">and {{ count(stays.length - 50) }} more stay</li>
        </ul>
        <p v-for="problem in would.data.value.problems" :key="problem" class="text-danger">{{ visible(problem) }}</p>
      </div>
    </div>
    <ClearDialog
      v-model="asking"
      :title="`${verb === 'move' ? 'Move' : 'Remove'} ${counted(files.length, 'file')}?`"
      :yes="verb === 'move' ? 'Move' : 'Remove'"
      @yes="(why) => does.mutate(why)"
    />
  </section>
</template>
