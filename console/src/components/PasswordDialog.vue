<script setup lang="ts">
import { Dialog, DialogPanel, DialogTitle } from "@headlessui/vue";
import { useMutation, useQueryClient } from "@tanstack/vue-query";
import { ref, watch } from "vue";
import { post } from "../support/api";
import { visible } from "../support/format";
import ErrorNote from "./ErrorNote.vue";

/** Gives a user another password. */
const props = defineProps<{ user: string }>();
const open = defineModel<boolean>({ required: true });
const queries = useQueryClient();
const password = ref("");
const change = useMutation({
  mutationFn: () => post(`/users/${encodeURIComponent(props.user)}/password`, { password: password.value }),
  onSuccess: () => (open.value = false),
  onSettled: () => queries.invalidateQueries(),
});
watch(open, (now) => {
  if (!now) return;
  password.value = "";
  change.reset();
});
</script>

<template>
  <Dialog :open="open" class="relative z-30" @close="open = false">
    <div class="fixed inset-0 bg-black/50" aria-hidden="true" />
    <div class="fixed inset-0 flex items-center justify-center p-4">
      <DialogPanel class="panel w-full max-w-md p-5 shadow-xl">
        <form class="space-y-4" @submit.prevent="change.mutate()">
          <DialogTitle class="text-lg font-semibold">Another password for {{ visible(user) }}</DialogTitle>
          <p class="text-sm text-muted">Their sessions end; they sign in with this one from now on.</p>
          <label class="block">
            <span class="label mb-1 block">Password, 12 characters at least</span>
            <input v-model="password" type="password" class="field w-full" autocomplete="new-password" />
          </label>
          <ErrorNote :error="change.error.value" />
          <div class="flex justify-end gap-2">
            <button type="button" class="button" @click="open = false">Leave it</button>
            <button type="submit" class="button button-main" :disabled="password === '' || change.isPending.value">
              Change it
            </button>
          </div>
        </form>
      </DialogPanel>
    </div>
  </Dialog>
</template>
