<script setup lang="ts">
import { useMutation } from "@tanstack/vue-query";
import { ref, watch } from "vue";
import { useRoute, useRouter } from "vue-router";
import ErrorNote from "../components/ErrorNote.vue";
import { post } from "../support/api";

const route = useRoute();
const router = useRouter();
const token = ref("");

const { mutate, isPending, error } = useMutation({
  mutationFn: (shown: string) => post("/session", { token: shown.trim() }),
  onSuccess: () => {
    const next = route.query.next;
    // Only a page of the console itself.
    const inside = typeof next === "string" && /^\/(?!\/)/.test(next);
    return router.replace(inside ? next : "/");
  },
});

// A link may bring the token behind its `#`, which is never sent anywhere.
watch(
  () => route.hash,
  (hash) => {
    if (hash.length < 2) return;
    void router.replace({ ...route, hash: "" });
    mutate(hash.slice(1));
  },
  { immediate: true },
);
</script>

<template>
  <div class="mx-auto mt-[12vh] max-w-md">
    <form class="panel space-y-4 p-6" @submit.prevent="mutate(token)">
      <div class="flex items-center gap-3">
        <img src="/mark.svg" alt="" class="size-10" />
        <h1 class="text-xl font-semibold">Sign in to Vadegate</h1>
      </div>
      <div>
        <label for="token" class="label">Token</label>
        <input
          id="token"
          v-model="token"
          type="password"
          autocomplete="current-password"
          required
          autofocus
          class="field mt-1 w-full"
          aria-describedby="where"
        />
        <p id="where" class="mt-2 text-sm text-muted">
          The service made it at its first start: it is in the file <code>token</code> of its state folder, which only
          its owner can read.
        </p>
      </div>
      <ErrorNote :error="error" />
      <button type="submit" class="button button-main w-full justify-center" :disabled="isPending || token === ''">
        Sign in
      </button>
    </form>
  </div>
</template>
