<script setup lang="ts">
import { useMutation } from "@tanstack/vue-query";
import { computed, ref } from "vue";
import { RouterLink } from "vue-router";
import EmptyNote from "../components/EmptyNote.vue";
import ErrorNote from "../components/ErrorNote.vue";
import SessionTable from "../components/SessionTable.vue";
import TokenForm from "../components/TokenForm.vue";
import TokenTable from "../components/TokenTable.vue";
import { useSessions, useTokens } from "../composables/useAccounts";
import { useSession } from "../composables/useMe";
import { post } from "../support/api";
import { visible } from "../support/format";

const { data: session } = useSession();
const { data: sessions, error } = useSessions(false);
const { data: tokens, error: failed } = useTokens();
const own = computed(() => (tokens.value ?? []).filter((token) => token.owner === session.value?.name));

const [present, next, again] = [ref(""), ref(""), ref("")];
const change = useMutation({
  mutationFn: () =>
    post(`/users/${encodeURIComponent(session.value?.name ?? "")}/password`, {
      password: next.value,
      present: present.value,
    }),
  onSuccess: () => {
    present.value = next.value = again.value = "";
  },
});
const differ = computed(() => again.value !== "" && again.value !== next.value);
const ready = computed(() => present.value !== "" && next.value !== "" && again.value === next.value);
</script>

<template>
  <h1 class="mb-3 text-2xl font-semibold">Account</h1>
  <ErrorNote :error="error ?? failed" />
  <p v-if="session?.local" class="panel mb-4 p-4 text-sm">
    You are here with the token of the service's state folder, which may do everything. What you do is recorded under
    the name that you say, marked as “local”. Users with passwords of their own are added on the page
    <RouterLink :to="{ name: 'people' }" class="link">People</RouterLink>.
  </p>
  <p v-else-if="session" class="mb-4 text-muted">
    You are <span class="font-medium text-text">{{ visible(session.name ?? "") }}</span>, with the role
    {{ session.role }}.
  </p>
  <div class="grid items-start gap-4 lg:grid-cols-3">
    <div class="grid min-w-0 gap-4" :class="session?.local ? 'lg:col-span-3' : 'lg:col-span-2'">
      <section class="panel min-w-0" aria-labelledby="sessions">
        <h2 id="sessions" class="border-b border-line px-4 py-2.5 font-semibold">Sessions</h2>
        <SessionTable :sessions="sessions ?? []" />
      </section>
      <section v-if="!session?.local" class="panel min-w-0" aria-labelledby="tokens">
        <h2 id="tokens" class="border-b border-line px-4 py-2.5 font-semibold">Tokens</h2>
        <TokenTable v-if="own.length > 0" :tokens="own" />
        <EmptyNote v-else title="You have no tokens.">
          With a token the command line and programs of yours ask the service in your name.
        </EmptyNote>
        <TokenForm />
      </section>
    </div>
    <section v-if="session && !session.local" class="panel min-w-0" aria-labelledby="password">
      <h2 id="password" class="border-b border-line px-4 py-2.5 font-semibold">Password</h2>
      <form class="space-y-3 p-4" @submit.prevent="change.mutate()">
        <input
          type="text"
          autocomplete="username"
          :value="session.name"
          class="sr-only"
          tabindex="-1"
          aria-hidden="true"
        />
        <label class="block">
          <span class="label mb-1 block">The present one</span>
          <input v-model="present" type="password" autocomplete="current-password" class="field w-full" />
        </label>
        <label class="block">
          <span class="label mb-1 block">The new one, 12 characters at least</span>
          <input v-model="next" type="password" autocomplete="new-password" class="field w-full" />
        </label>
        <label class="block">
          <span class="label mb-1 block">The new one again</span>
          <input v-model="again" type="password" autocomplete="new-password" class="field w-full" />
        </label>
        <p v-if="differ" class="text-sm text-danger">The two are not the same.</p>
        <ErrorNote :error="change.error.value" />
        <p v-if="change.isSuccess.value" role="status" class="text-sm">
          It is changed; your other sessions have ended.
        </p>
        <button type="submit" class="button button-main" :disabled="!ready || change.isPending.value">
          Change the password
        </button>
      </form>
    </section>
  </div>
</template>
