<script setup lang="ts">
import { useSigner } from "../composables/useMe";
import { useWho } from "../composables/useWho";
import { visible } from "../support/format";

/** Who does it and why: both stand in the history. */
const who = useWho();
const { named } = useSigner();
const why = defineModel<string>({ required: true });
</script>

<template>
  <div class="space-y-3">
    <label class="block">
      <span class="label mb-1 block">Why</span>
      <input v-model="why" class="field w-full" placeholder="It stands in the history of each entry" aria-label="Why" />
    </label>
    <p v-if="named !== null" class="text-sm text-muted">It is recorded as done by {{ visible(named) }}.</p>
    <label v-else class="block">
      <span class="label mb-1 block">Who</span>
      <input v-model="who" class="field w-full" placeholder="Your name" autocomplete="name" aria-label="Who" />
    </label>
  </div>
</template>
