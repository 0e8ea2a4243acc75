<script setup lang="ts">
import { useMutation, useQueryClient } from "@tanstack/vue-query";
import { remove } from "../support/api";
import { visible } from "../support/format";
import type { SessionView } from "../support/types";
import ErrorNote from "./ErrorNote.vue";
import TimeAgo from "./TimeAgo.vue";

/** Sessions that have not ended, and ending them. */
defineProps<{ sessions: SessionView[]; users?: boolean }>();
const queries = useQueryClient();
const end = useMutation({
  mutationFn: (id: number) => remove(`/sessions/${id}`),
  onSettled: () => queries.invalidateQueries(),
});

/** The browser and its system, as far as it says so. */
function program(text: string): string {
  const browser = /(Firefox|Edg|OPR|Chrome|Safari)\/(\d+)/.exec(text);
  const system = /\(([^;)]+)[;)]/.exec(text);
  return browser ? `${browser[1]} ${browser[2]}, ${system?.[1] ?? ""}` : text;
}
</script>

<template>
  <ErrorNote :error="end.error.value" />
  <div class="overflow-x-auto">
    <table class="w-full text-sm [&_td]:align-middle">
      <thead class="border-b border-line text-xs text-muted">
        <tr>
          <th v-if="users" class="cell" scope="col">User</th>
          <th class="cell" scope="col">From</th>
          <th class="cell" scope="col">Browser</th>
          <th class="cell" scope="col">Begun</th>
          <th class="cell" scope="col">Last used</th>
          <th class="cell" scope="col"><span class="sr-only">End</span></th>
        </tr>
      </thead>
      <tbody class="divide-y divide-line">
        <tr v-for="one in sessions" :key="one.id">
          <td v-if="users" class="cell font-medium [overflow-wrap:anywhere]">
            {{ visible(one.user ?? "local token") }}
          </td>
          <td class="cell font-mono text-[0.8125rem]">{{ one.address }}</td>
          <td class="cell [overflow-wrap:anywhere]">
            {{ visible(program(one.program)) }}
            <span v-if="one.own" class="ml-1 text-muted">(this one)</span>
          </td>
          <td class="cell"><TimeAgo :at="one.begun_at" /></td>
          <td class="cell"><TimeAgo :at="one.used_at" /></td>
          <td class="cell text-right">
            <button v-if="!one.own" class="button" :disabled="end.isPending.value" @click="end.mutate(one.id)">
              End
            </button>
          </td>
        </tr>
      </tbody>
    </table>
  </div>
</template>
