<script setup lang="ts">
import { ref } from "vue";
import { DOINGS, doingsFor } from "../support/doings";
import type { Doing, EntryQuery, EntryState } from "../support/types";
import DoingDialog from "./DoingDialog.vue";

/** What can be done to all entries that fit, when they are of one state. */
defineProps<{ state: EntryState; fitting: EntryQuery; any: boolean }>();
const open = ref(false);
const chosen = ref<Doing>("again");

function ask(doing: Doing) {
  chosen.value = doing;
  open.value = true;
}
</script>

<template>
  <div v-if="doingsFor(state).length > 0">
    <div v-if="any" class="flex flex-wrap items-center gap-2 border-b border-line px-4 py-2 text-sm">
      <span class="text-muted">All of these:</span>
      <button v-for="doing in doingsFor(state)" :key="doing" class="button" @click="ask(doing)">
        {{ DOINGS[doing].name }}
      </button>
    </div>
    <!-- It stays when none is left, to say what was done. -->
    <DoingDialog v-model="open" :doing="chosen" :fitting="fitting" />
  </div>
</template>
