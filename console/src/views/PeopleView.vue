<script setup lang="ts">
import { useMutation, useQueryClient } from "@tanstack/vue-query";
import { computed, ref } from "vue";
import AskDialog from "../components/AskDialog.vue";
import EmptyNote from "../components/EmptyNote.vue";
import ErrorNote from "../components/ErrorNote.vue";
import PasswordDialog from "../components/PasswordDialog.vue";
import PickList from "../components/PickList.vue";
import SessionTable from "../components/SessionTable.vue";
import TimeAgo from "../components/TimeAgo.vue";
import TokenForm from "../components/TokenForm.vue";
import TokenTable from "../components/TokenTable.vue";
import { useSessions, useTokens, useUsers } from "../composables/useAccounts";
import { post, remove } from "../support/api";
import { visible } from "../support/format";
import type { Role, User } from "../support/types";

const queries = useQueryClient();
const { data: users, error } = useUsers();
const { data: tokens } = useTokens();
const { data: sessions } = useSessions(true);
const ROLES = (["viewer", "operator", "admin"] as const).map((value) => ({ value, name: value }));
const done = { onSettled: () => queries.invalidateQueries() };

const [name, password] = [ref(""), ref("")];
const role = ref<Role>("operator");
const add = useMutation({
  mutationFn: () => post<User[]>("/users", { name: name.value.trim(), role: role.value, password: password.value }),
  onSuccess: () => {
    name.value = password.value = "";
  },
  ...done,
});
const path = (user: User) => `/users/${encodeURIComponent(user.name)}`;
const setRole = useMutation({
  mutationFn: ({ user, wanted }: { user: User; wanted: Role }) => post(`${path(user)}/role`, { role: wanted }),
  ...done,
});
const drop = useMutation({ mutationFn: (user: User) => remove(path(user)), ...done });
const chosen = ref<User | null>(null);
const [removing, changing] = [ref(false), ref(false)];

function choose(user: User, what: "remove" | "password") {
  chosen.value = user;
  (what === "remove" ? removing : changing).value = true;
}
const problem = computed(() => error.value ?? setRole.error.value ?? drop.error.value);
</script>

<template>
  <h1 class="mb-3 text-2xl font-semibold">People</h1>
  <ErrorNote :error="problem" />
  <section class="panel mb-4 min-w-0" aria-labelledby="users">
    <h2 id="users" class="border-b border-line px-4 py-2.5 font-semibold">Users</h2>
    <div v-if="(users ?? []).length > 0" class="overflow-x-auto">
      <table class="w-full text-sm [&_td]:align-middle">
        <thead class="border-b border-line text-xs text-muted">
          <tr>
            <th class="cell" scope="col">Name</th>
            <th class="cell" scope="col">Role</th>
            <th class="cell text-right" scope="col">Sessions</th>
            <th class="cell text-right" scope="col">Tokens</th>
            <th class="cell" scope="col">Last seen</th>
            <th class="cell" scope="col">Added</th>
            <th class="cell" scope="col"><span class="sr-only">Actions</span></th>
          </tr>
        </thead>
        <tbody class="divide-y divide-line">
          <tr v-for="user in users" :key="user.name">
            <td class="cell font-medium [overflow-wrap:anywhere]">{{ visible(user.name) }}</td>
            <td class="cell">
              <PickList
                :model-value="user.role"
                :label="`Role of ${visible(user.name)}`"
                hidden-label
                :choices="ROLES"
                @update:model-value="(wanted) => setRole.mutate({ user, wanted })"
              />
            </td>
            <td class="cell text-right">{{ user.sessions }}</td>
            <td class="cell text-right">{{ user.tokens }}</td>
            <td class="cell"><TimeAgo :at="user.used_at" /></td>
            <td class="cell">
              <TimeAgo :at="user.made_at" /> <span class="text-muted">by {{ visible(user.made_by) }}</span>
            </td>
            <td class="cell">
              <div class="flex justify-end gap-2">
                <button class="button" :aria-label="`Password … of ${user.name}`" @click="choose(user, 'password')">
                  Password …
                </button>
                <button class="button" :aria-label="`Remove … ${user.name}`" @click="choose(user, 'remove')">
                  Remove …
                </button>
              </div>
            </td>
          </tr>
        </tbody>
      </table>
    </div>
    <EmptyNote v-else-if="users" title="There are no users.">
      Only the token of the service's state folder opens anything. Add who looks, who acts and who decides.
    </EmptyNote>
    <form class="flex flex-wrap items-end gap-2 border-t border-line p-4" @submit.prevent="add.mutate()">
      <label class="block">
        <span class="label mb-1 block">A new user, called</span>
        <input v-model="name" class="field w-44" autocomplete="off" autocapitalize="none" />
      </label>
      <label class="block">
        <span class="label mb-1 block">First password, 12 characters at least</span>
        <input v-model="password" type="password" class="field w-64" autocomplete="new-password" />
      </label>
      <PickList v-model="role" label="Role" :choices="ROLES" />
      <button
        type="submit"
        class="button button-main"
        :disabled="add.isPending.value || name.trim() === '' || password === ''"
      >
        Add
      </button>
      <div class="w-full"><ErrorNote :error="add.error.value" /></div>
    </form>
  </section>
  <section class="panel mb-4 min-w-0" aria-labelledby="tokens">
    <h2 id="tokens" class="border-b border-line px-4 py-2.5 font-semibold">Tokens</h2>
    <TokenTable v-if="(tokens ?? []).length > 0" :tokens="tokens ?? []" owners />
    <EmptyNote v-else-if="tokens" title="There are no tokens.">
      A worker on another machine, a program that reads figures: each gets a token of its own, for what it does alone.
    </EmptyNote>
    <TokenForm />
  </section>
  <section class="panel min-w-0" aria-labelledby="sessions">
    <h2 id="sessions" class="border-b border-line px-4 py-2.5 font-semibold">Sessions of everybody</h2>
    <SessionTable :sessions="sessions ?? []" users />
  </section>
  <AskDialog
    v-model="removing"
    :title="`Remove ${visible(chosen?.name ?? '')}?`"
    yes="Remove"
    @yes="chosen && drop.mutate(chosen)"
  >
    Their sessions and tokens end at once. What they did stays in the histories and in the audit log.
  </AskDialog>
  <PasswordDialog v-if="chosen" v-model="changing" :user="chosen.name" />
</template>
