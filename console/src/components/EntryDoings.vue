<script setup lang="ts">
import { computed, ref } from "vue";
import { DOINGS, doingsFor } from "../support/doings";
import type { Doing, Entry } from "../support/types";
import DoingDialog from "./DoingDialog.vue";

/** What a person can do to an entry, as its state allows. */
const props = defineProps<{ entry: Entry; loaded: boolean }>();
const doings = computed(() => doingsFor(props.entry.state, props.loaded).filter((doing) => doing !== "forget" || !props.entry.forgotten));
const open = ref(false);
const chosen = ref<Doing>("again");

function ask(doing: Doing) {
  chosen.value = doing;
  open.value = true;
}
</script>

<template>
  <!-- An open dialog stays whatever the entry becomes meanwhile, to say what was done. -->
  <div v-if="doings.length > 0 || open" class="flex flex-wrap gap-2">
    <button
      v-for="(doing, at) in doings"
      :key="doing"
      class="button"
      :class="{ 'button-main': at === 0 && entry.state === 'held' }"
      @click="ask(doing)"
    >
      {{ DOINGS[doing].name }}
    </button>
    <DoingDialog v-model="open" :doing="chosen" :entries="[entry.id]" />
  </div>
</template>
