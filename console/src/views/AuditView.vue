<script setup lang="ts">
import { useMutation } from "@tanstack/vue-query";
import { computed, ref } from "vue";
import EmptyNote from "../components/EmptyNote.vue";
import ErrorNote from "../components/ErrorNote.vue";
import { useAudit } from "../composables/useAccounts";
import { useZone } from "../composables/useQueries";
import { get } from "../support/api";
import { counted, moment, visible } from "../support/format";
import type { AuditProof } from "../support/types";

const zone = useZone();
const [text, who, what] = [ref(""), ref(""), ref("")];
const failed = ref(false);
const filter = computed(() => ({
  text: text.value.trim() || undefined,
  who: who.value.trim() || undefined,
  what: what.value.trim() || undefined,
  failed: failed.value || undefined,
}));
const { data, error, hasNextPage, fetchNextPage, isFetchingNextPage } = useAudit(filter);
const lines = computed(() => data.value?.pages.flat() ?? []);
const verify = useMutation({ mutationFn: () => get<AuditProof>("/audit/proof") });
const about = (line: { about: string; why: string }) => [line.about, line.why].filter((part) => part !== "").join(": ");
</script>

<template>
  <div class="mb-3 flex flex-wrap items-center justify-between gap-2">
    <h1 class="text-2xl font-semibold">Audit log</h1>
    <button class="button" :disabled="verify.isPending.value" @click="verify.mutate()">
      {{ verify.isPending.value ? "Going through it …" : "Verify" }}
    </button>
  </div>
  <ErrorNote :error="error ?? verify.error.value" />
  <div
    v-if="verify.data.value"
    role="status"
    class="mb-3 rounded-md px-3 py-2 text-sm"
    :class="verify.data.value.faults.length > 0 ? 'bg-danger-soft text-danger' : 'bg-good-soft text-good'"
  >
    <p v-for="fault in verify.data.value.faults.slice(0, 20)" :key="fault" class="font-medium">{{ fault }}</p>
    <p v-if="verify.data.value.faults.length === 0" class="font-medium">
      {{ counted(verify.data.value.lines, "line") }}: all as they were written.
    </p>
    <p v-if="verify.data.value.sum" class="mt-1 break-all">
      Sum of line {{ verify.data.value.last }}: <span class="font-mono">{{ verify.data.value.sum }}</span>
    </p>
  </div>
  <section class="panel min-w-0" aria-label="Lines of the audit log">
    <form class="flex flex-wrap items-end gap-2 border-b border-line px-4 py-3" role="search" @submit.prevent>
      <label class="block">
        <span class="label mb-1 block">Search</span>
        <input v-model.lazy="text" type="search" class="field w-56" placeholder="in every part of a line" />
      </label>
      <label class="block">
        <span class="label mb-1 block">Who</span>
        <input v-model.lazy="who" class="field w-36" autocomplete="off" />
      </label>
      <label class="block">
        <span class="label mb-1 block">What</span>
        <input v-model.lazy="what" class="field w-36" placeholder="such as sign-in" autocomplete="off" />
      </label>
      <label class="flex items-center gap-2 py-1.5 text-sm">
        <input v-model="failed" type="checkbox" />
        refused or failed
      </label>
    </form>
    <div v-if="lines.length > 0" class="overflow-x-auto">
      <table class="w-full text-sm">
        <thead class="border-b border-line text-xs text-muted max-md:sr-only">
          <tr>
            <th class="cell text-right" scope="col">Line</th>
            <th class="cell" scope="col">When</th>
            <th class="cell" scope="col">Who</th>
            <th class="cell" scope="col">From</th>
            <th class="cell" scope="col">What</th>
            <th class="cell text-right" scope="col">Answer</th>
            <th class="cell w-[40%]" scope="col">About, and why</th>
          </tr>
        </thead>
        <tbody class="divide-y divide-line">
          <tr
            v-for="line in lines"
            :key="line.id"
            class="hover:bg-raised max-md:flex max-md:flex-wrap max-md:items-baseline max-md:py-2"
          >
            <td class="cell text-right text-muted max-md:py-0">{{ line.id }}</td>
            <td class="cell whitespace-nowrap max-md:py-0">{{ moment(line.at, zone) }}</td>
            <td class="cell font-medium [overflow-wrap:anywhere] max-md:py-0">{{ visible(line.who) }}</td>
            <td class="cell font-mono text-[0.8125rem] max-md:py-0">{{ visible(line.address) }}</td>
            <td class="cell whitespace-nowrap max-md:py-0">{{ visible(line.what) }}</td>
            <td class="cell text-right max-md:py-0" :class="line.status >= 400 ? 'text-danger' : 'text-muted'">
              {{ line.status }}
            </td>
            <td class="cell text-muted [overflow-wrap:anywhere] max-md:w-full max-md:py-0">
              {{ visible(about(line)) }}
            </td>
          </tr>
        </tbody>
      </table>
    </div>
    <EmptyNote v-else-if="data" title="Nothing in the log fits.">
      Sign-ins, refusals, actions, and changes of configuration and people are written here, each line with a sum over
      itself and the one before.
    </EmptyNote>
    <div
      v-if="lines.length > 0"
      class="flex items-center justify-between border-t border-line px-4 py-2 text-sm text-muted"
    >
      <span>{{ counted(lines.length, "line") }} shown, newest first</span>
      <button v-if="hasNextPage" class="button" :disabled="isFetchingNextPage" @click="fetchNextPage()">
        {{ isFetchingNextPage ? "Reading …" : "Show more" }}
      </button>
    </div>
  </section>
</template>
