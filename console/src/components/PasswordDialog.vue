<script setup lang="ts">
import { useMutation, useQueryClient } from "@tanstack/vue-query";
import { ref, watch } from "vue";
import { post } from "../support/api";
import { visible } from "../support/format";
import ErrorNote from "./ErrorNote.vue";
import ModalForm from "./ModalForm.vue";

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
  <ModalForm
    v-model="open"
    :title="`Another password for ${visible(user)}`"
    yes="Change it"
    :ready="password !== '' && !change.isPending.value"
    :typed="password !== ''"
    @yes="change.mutate()"
  >
    <p class="text-sm text-muted">Their sessions end; they sign in with this one from now on.</p>
    <label class="block">
      <span class="label mb-1 block">Password, 12 characters at least</span>
      <input v-model="password" type="password" class="field w-full" autocomplete="new-password" />
    </label>
    <ErrorNote :error="change.error.value" />
  </ModalForm>
</template>
