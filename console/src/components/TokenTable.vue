<script setup lang="ts">
import { useMutation, useQueryClient } from "@tanstack/vue-query";
import { ref } from "vue";
import { useNow } from "../composables/useNow";
import { remove } from "../support/api";
import { visible } from "../support/format";
import type { Token } from "../support/types";
import AskDialog from "./AskDialog.vue";
import ErrorNote from "./ErrorNote.vue";
import TimeAgo from "./TimeAgo.vue";

/** Tokens, and revoking them. */
defineProps<{ tokens: Token[]; owners?: boolean }>();
const queries = useQueryClient();
const now = useNow();
const asked = ref<Token | null>(null);
const open = ref(false);
const revoke = useMutation({
  mutationFn: (token: Token) => remove(`/tokens/${token.id}`),
  onSettled: () => queries.invalidateQueries(),
});
const good = (token: Token) =>
  token.until === null ? "until it is revoked" : Date.parse(token.until) < now.value ? "ended" : "";

function ask(token: Token) {
  asked.value = token;
  open.value = true;
}
</script>

<template>
  <ErrorNote :error="revoke.error.value" />
  <div class="overflow-x-auto">
    <table class="w-full text-sm [&_td]:align-middle">
      <thead class="border-b border-line text-xs text-muted">
        <tr>
          <th class="cell" scope="col">Token</th>
          <th class="cell" scope="col">Role</th>
          <th class="cell" scope="col">Gates</th>
          <th v-if="owners" class="cell" scope="col">Of</th>
          <th class="cell" scope="col">Good until</th>
          <th class="cell" scope="col">Last shown</th>
          <th class="cell" scope="col"><span class="sr-only">Revoke</span></th>
        </tr>
      </thead>
      <tbody class="divide-y divide-line">
        <tr v-for="token in tokens" :key="token.id">
          <td class="cell font-medium [overflow-wrap:anywhere]">{{ visible(token.label) }}</td>
          <td class="cell">{{ token.role }}</td>
          <td class="cell [overflow-wrap:anywhere]">
            {{ token.gates.length === 0 ? "all" : token.gates.map(visible).join(", ") }}
          </td>
          <td v-if="owners" class="cell [overflow-wrap:anywhere]">{{ visible(token.owner ?? "") }}</td>
          <td class="cell whitespace-nowrap">
            <template v-if="good(token)">{{ good(token) }}</template>
            <time v-else :datetime="token.until ?? ''">{{ (token.until ?? "").slice(0, 10) }}</time>
          </td>
          <td class="cell"><TimeAgo :at="token.used_at" /></td>
          <td class="cell text-right">
            <button class="button" :aria-label="`Revoke … ${token.label}`" @click="ask(token)">Revoke …</button>
          </td>
        </tr>
      </tbody>
    </table>
  </div>
  <AskDialog
    v-model="open"
    :title="`Revoke the token ${asked?.label ?? ''}?`"
    yes="Revoke"
    @yes="asked && revoke.mutate(asked)"
  >
    Whatever shows it gets no answer from now on. It cannot be brought back; another can be made.
  </AskDialog>
</template>
