<script setup lang="ts">
import { RadioGroupOption } from "@headlessui/vue";

/** One choice of several, as a row that can be pressed. */
defineProps<{ value: string }>();
</script>

<template>
  <RadioGroupOption v-slot="{ checked, active }" :value="value">
    <div
      class="mb-1 flex cursor-pointer gap-3 rounded-md border px-3 py-1.5"
      :class="[
        checked ? 'border-accent bg-raised' : 'border-line',
        { 'outline-2 outline-offset-2 outline-accent': active },
      ]"
    >
      <span class="w-3 shrink-0" aria-hidden="true">{{ checked ? "✓" : "" }}</span>
      <slot />
    </div>
  </RadioGroupOption>
</template>
