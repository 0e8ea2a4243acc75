<script setup lang="ts">
import { computed } from "vue";
import { useSession } from "../composables/useMe";
import { ACTIONS, actionsFor } from "../support/actions";
import { mayAct } from "../support/roles";
import type { EntryAction } from "../support/types";

/** What can be done to held entries; whoever shows it asks. */
defineProps<{ none: boolean }>();
const emit = defineEmits<{ act: [action: EntryAction] }>();
const { data: session } = useSession();
const actions = computed(() => actionsFor("held").filter((action) => mayAct(session.value?.role, action)));
</script>

<template>
  <span class="flex flex-wrap gap-2">
    <button
      v-for="action in actions"
      :key="action"
      class="button"
      :class="{ 'text-danger': action === 'delete' }"
      :disabled="none"
      @click="emit('act', action)"
    >
      {{ ACTIONS[action].name }}
    </button>
  </span>
</template>
