<script setup lang="ts">
import { computed, ref } from "vue";
import { useSession } from "../composables/useMe";
import { ACTIONS, actionsFor } from "../support/actions";
import { mayAct } from "../support/roles";
import type { EntryAction, EntryQuery, EntryState } from "../support/types";
import ActionDialog from "./ActionDialog.vue";

/** What can be done to all entries that fit, when they are of one state. */
const props = defineProps<{ state: EntryState; fitting: () => EntryQuery; any: boolean }>();
const { data: session } = useSession();
const actions = computed(() => actionsFor(props.state).filter((action) => mayAct(session.value?.role, action)));
const open = ref(false);
const chosen = ref<EntryAction>("again");
// What was asked for when it was pressed: spans of time go on meanwhile.
const asked = ref<EntryQuery>({});

function ask(action: EntryAction) {
  chosen.value = action;
  asked.value = props.fitting();
  open.value = true;
}
</script>

<template>
  <div v-if="actions.length > 0">
    <div v-if="any" class="flex flex-wrap items-center gap-2 border-b border-line px-4 py-2 text-sm">
      <span class="text-muted">All of these:</span>
      <button v-for="action in actions" :key="action" class="button" @click="ask(action)">
        {{ ACTIONS[action].name }}
      </button>
    </div>
    <!-- It stays when none is left, to say what was done. -->
    <ActionDialog v-model="open" :action="chosen" :fitting="asked" />
  </div>
</template>
