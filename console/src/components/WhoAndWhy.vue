<script setup lang="ts">
import { useWho } from "../composables/useWho";

/** Who does it and why: both stand in the history. */
const who = useWho();
const why = defineModel<string>({ required: true });
</script>

<template>
  <div class="space-y-3">
    <label class="block">
      <span class="label mb-1 block">Why</span>
      <input v-model="why" class="field w-full" placeholder="It stands in the history of each entry" aria-label="Why" />
    </label>
    <label class="block">
      <span class="label mb-1 block">Who</span>
      <input v-model="who" class="field w-full" placeholder="Your name" autocomplete="name" aria-label="Who" />
    </label>
  </div>
</template>
