<script setup lang="ts">
import { useMutation, useQueryClient } from "@tanstack/vue-query";
import { computed, ref } from "vue";
import { useSession } from "../composables/useMe";
import { useGates } from "../composables/useQueries";
import { post } from "../support/api";
import { mayDo } from "../support/roles";
import type { MadeToken, Role } from "../support/types";
import ErrorNote from "./ErrorNote.vue";
import PickList from "./PickList.vue";

/** Makes a token, and shows it this once. */
const queries = useQueryClient();
const { data: session } = useSession();
const { data: gates } = useGates();
const label = ref("");
const role = ref<Role>("viewer");
const gate = ref("");
const lasting = ref("90d");
const of = (...roles: Role[]) => roles.map((value) => ({ value, name: value }));
const roles = computed(() =>
  session.value?.role === "admin"
    ? of("viewer", "operator", "admin", "worker", "supplier")
    : of("viewer", "operator").filter(({ value }) => mayDo(session.value?.role, value)),
);
const ofGates = computed(() => role.value === "worker" || role.value === "supplier");
const places = computed(() => [
  { value: "", name: "choose one" },
  ...(gates.value ?? []).map(({ name }) => ({ value: name, name })),
]);
const LASTING = [
  { value: "30d", name: "30 days" },
  { value: "90d", name: "90 days" },
  { value: "365d", name: "a year" },
  { value: "", name: "until it is revoked" },
];
const make = useMutation({
  mutationFn: () =>
    post<MadeToken>("/tokens", {
      label: label.value.trim() === "" ? null : label.value.trim(),
      role: role.value,
      gates: ofGates.value ? [gate.value] : [],
      lasting: lasting.value === "" ? null : lasting.value,
    }),
  onSuccess: () => (label.value = ""),
  onSettled: () => queries.invalidateQueries({ queryKey: ["tokens"] }),
});
const copied = ref(false);
async function copy(secret: string) {
  await navigator.clipboard.writeText(secret);
  copied.value = true;
}
</script>

<template>
  <form class="space-y-3 border-t border-line p-4" @submit.prevent="((copied = false), make.mutate())">
    <div class="flex flex-wrap items-end gap-2">
      <label class="block">
        <span class="label mb-1 block">A new token, called</span>
        <input v-model="label" class="field w-44" placeholder="as its role" autocomplete="off" />
      </label>
      <PickList v-model="role" label="Role" :choices="roles" />
      <PickList v-if="ofGates" v-model="gate" label="Gate" :choices="places" />
      <PickList v-model="lasting" label="Good for" :choices="LASTING" />
      <button type="submit" class="button button-main" :disabled="make.isPending.value || (ofGates && gate === '')">
        Make it
      </button>
    </div>
    <ErrorNote :error="make.error.value" />
    <div v-if="make.data.value" role="status" class="rounded-md bg-wait-soft px-3 py-2 text-sm text-wait">
      <p class="font-medium">It is shown this once. Keep it where nobody else reads.</p>
      <p class="mt-1 font-mono break-all select-all">{{ make.data.value.secret }}</p>
      <button type="button" class="button mt-2" @click="copy(make.data.value.secret)">
        {{ copied ? "Copied" : "Copy" }}
      </button>
    </div>
  </form>
</template>
