<script setup lang="ts">
import { computed, ref } from "vue";
import { useSession } from "../composables/useMe";
import { ACTIONS, actionsFor } from "../support/actions";
import { mayAct } from "../support/roles";
import type { EntryAction, Entry } from "../support/types";
import ActionDialog from "./ActionDialog.vue";

/** What a person can do to an entry, as its state allows. */
const props = defineProps<{ entry: Entry; loaded: boolean }>();
const { data: session } = useSession();
const actions = computed(() =>
  actionsFor(props.entry.state, props.loaded)
    .filter((action) => mayAct(session.value?.role, action))
    .filter((action) => action !== "forget" || !props.entry.forgotten),
);
const open = ref(false);
const chosen = ref<EntryAction>("again");

function ask(action: EntryAction) {
  chosen.value = action;
  open.value = true;
}
</script>

<template>
  <!-- An open dialog stays whatever the entry becomes meanwhile, to say what was done. -->
  <div v-if="actions.length > 0 || open" class="flex flex-wrap gap-2">
    <button
      v-for="(action, at) in actions"
      :key="action"
      class="button"
      :class="{ 'button-main': at === 0 && entry.state === 'held' }"
      @click="ask(action)"
    >
      {{ ACTIONS[action].name }}
    </button>
    <ActionDialog v-model="open" :action="chosen" :entries="[entry.id]" />
  </div>
</template>
