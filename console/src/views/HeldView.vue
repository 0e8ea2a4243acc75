<script setup lang="ts">
import { computed, onScopeDispose, ref } from "vue";
import { RouterLink, useRoute, useRouter } from "vue-router";
import ActionDialog from "../components/ActionDialog.vue";
import EmptyNote from "../components/EmptyNote.vue";
import ErrorNote from "../components/ErrorNote.vue";
import HeldLook from "../components/HeldLook.vue";
import HeldPick from "../components/HeldPick.vue";
import MendedNote from "../components/MendedNote.vue";
import { useHeld } from "../composables/useHeld";
import { count, visible } from "../support/format";
import type { EntryAction, HandedIn, HeldGroup } from "../support/types";

/** What is held, by reason: looked at one after the other, and released some or all at once. */
const route = useRoute();
const router = useRouter();
const { data: groups, error } = useHeld();

// The address says which reason, by the first entry that is held for it, and which file.
const wanted = computed(() => Number(route.query.entry ?? 0));
const group = computed(() => {
  const all = groups.value ?? [];
  const gate = String(route.query.gate ?? "");
  return (
    all.find((one) => one.entries.includes(wanted.value)) ??
    all.find((one) => one.gate === gate && one.reason === route.query.reason) ??
    all.find((one) => one.gate === gate) ??
    all[0]
  );
});
const at = computed(() => Math.max(0, group.value?.entries.indexOf(wanted.value) ?? 0));
const looked = computed({
  get: () => group.value?.entries[at.value] ?? 0,
  set: (entry) => void router.replace({ query: { entry: String(entry) } }),
});
function step(by: number) {
  const next = group.value?.entries[at.value + by];
  if (next !== undefined) looked.value = next;
}
// Here, since what was done to a reason's files takes them off the page.
const acting = ref(false);
const action = ref<EntryAction>("again");
const asked = ref<number[]>([]);
function act(one: EntryAction, entries: number[]) {
  action.value = one;
  asked.value = entries;
  acting.value = true;
}
const mended = ref<HandedIn | null>(null);
const to = (one: HeldGroup) => ({ name: "held", query: { entry: String(one.entries[0]) } });
const total = computed(() => (groups.value ?? []).reduce((sum, one) => sum + one.count, 0));

function pressed(event: KeyboardEvent) {
  const target = event.target instanceof HTMLElement ? event.target : null;
  const busy = target?.closest("input:not([type=checkbox]), textarea, select, [role=dialog]");
  if (busy || event.ctrlKey || event.metaKey || event.altKey) return;
  if (event.key === "j") step(1);
  if (event.key === "k") step(-1);
}
window.addEventListener("keydown", pressed);
onScopeDispose(() => window.removeEventListener("keydown", pressed));
</script>

<template>
  <h1 class="mb-3 text-2xl font-semibold">
    Held <span v-if="groups" class="text-base font-normal text-muted">{{ count(total) }}</span>
  </h1>
  <ErrorNote :error="error" />
  <ActionDialog v-model="acting" :action="action" :entries="asked" />
  <MendedNote v-if="mended" :became="mended" class="mb-4" />
  <p v-if="!groups && !error" class="text-muted" role="status">Reading what is held …</p>
  <section v-if="groups && !group" class="panel">
    <EmptyNote title="Nothing is held.">A file that cannot be worked is held here, with its reason.</EmptyNote>
  </section>
  <div v-if="group" class="grid min-w-0 items-start gap-4 lg:grid-cols-5">
    <section class="panel min-w-0 lg:col-span-2" aria-label="Reasons">
      <ul class="max-h-64 divide-y divide-line overflow-y-auto text-sm" tabindex="0" aria-label="Reasons">
        <li v-for="one in groups" :key="`${one.gate} ${one.entries[0]}`" :class="{ 'bg-raised': one === group }">
          <RouterLink
            :to="to(one)"
            replace
            class="block px-4 py-2 hover:bg-raised"
            :aria-current="one === group ? 'true' : undefined"
          >
            <span class="flex justify-between gap-2 font-medium"
              >{{ one.gate }}<span class="text-danger">{{ count(one.count) }}</span></span
            >
            <span class="block text-muted [overflow-wrap:anywhere]">{{ visible(one.reason) }}</span>
          </RouterLink>
        </li>
      </ul>
      <HeldPick
        :key="group.gate + group.reason"
        v-model:looked="looked"
        :group="group"
        class="border-t border-line"
        @act="act"
      />
    </section>
    <HeldLook
      :id="looked"
      class="lg:col-span-3"
      :at="at"
      :of="group.entries.length"
      @step="step"
      @act="act"
      @mended="(became) => (mended = became)"
    />
  </div>
</template>
