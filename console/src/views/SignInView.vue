<script setup lang="ts">
import { useMutation, useQueryClient } from "@tanstack/vue-query";
import { computed, ref, watch } from "vue";
import { useRoute, useRouter } from "vue-router";
import ErrorNote from "../components/ErrorNote.vue";
import { useSession } from "../composables/useMe";
import { post } from "../support/api";

const route = useRoute();
const router = useRouter();
const queries = useQueryClient();
const { data: session } = useSession();
const [token, name, password] = [ref(""), ref(""), ref("")];
/** What was chosen here; before that, what the service has. */
const chosen = ref<"name" | "token" | null>(null);
const by = computed(() => chosen.value ?? (session.value?.by_name ? "name" : "token"));

type Shown = { token: string } | { name: string; password: string };
const { mutate, isPending, error, reset } = useMutation({
  mutationFn: (shown: Shown) => post("/session", shown),
  onSuccess: () => {
    queries.clear();
    const next = route.query.next;
    // Only a page of the console itself.
    const inside = typeof next === "string" && /^\/(?!\/)/.test(next);
    return router.replace(inside ? next : "/");
  },
});

function signIn() {
  mutate(by.value === "token" ? { token: token.value.trim() } : { name: name.value.trim(), password: password.value });
}
function choose(way: "name" | "token") {
  chosen.value = way;
  reset();
}

// A link may bring the token behind its `#`, which is never sent anywhere.
watch(
  () => route.hash,
  (hash) => {
    if (hash.length < 2) return;
    void router.replace({ ...route, hash: "" });
    mutate({ token: hash.slice(1) });
  },
  { immediate: true },
);
const ready = computed(() => (by.value === "token" ? token.value !== "" : name.value !== "" && password.value !== ""));
</script>

<template>
  <div class="mx-auto mt-[12vh] max-w-md">
    <form class="panel space-y-4 p-6" @submit.prevent="signIn">
      <div class="flex items-center gap-3">
        <img src="/mark.svg" alt="" class="size-10" />
        <h1 class="text-xl font-semibold">Sign in to Vadegate</h1>
      </div>
      <template v-if="by === 'name'">
        <div>
          <label for="name" class="label">Name</label>
          <input
            id="name"
            v-model="name"
            autocomplete="username"
            autocapitalize="none"
            spellcheck="false"
            required
            autofocus
            class="field mt-1 w-full"
          />
        </div>
        <div>
          <label for="password" class="label">Password</label>
          <input
            id="password"
            v-model="password"
            type="password"
            autocomplete="current-password"
            required
            class="field mt-1 w-full"
          />
        </div>
      </template>
      <div v-else>
        <label for="token" class="label">Token</label>
        <input
          id="token"
          v-model="token"
          type="password"
          autocomplete="off"
          required
          autofocus
          class="field mt-1 w-full"
          aria-describedby="where"
        />
        <p id="where" class="mt-2 text-sm text-muted">
          The service made it at its first start: it is in the file <code>token</code> of its state folder, which only
          its owner can read. It is good on the service's own machine alone.
        </p>
      </div>
      <ErrorNote :error="error" />
      <button type="submit" class="button button-main w-full justify-center" :disabled="isPending || !ready">
        {{ isPending ? "Signing in …" : "Sign in" }}
      </button>
      <p class="text-center text-sm">
        <button v-if="by === 'token'" type="button" class="link" @click="choose('name')">
          Sign in by name and password
        </button>
        <button v-else type="button" class="link" @click="choose('token')">Sign in with the local token</button>
      </p>
    </form>
  </div>
</template>
