<script setup lang="ts" generic="T extends string">
import { Listbox, ListboxButton, ListboxOption, ListboxOptions } from "@headlessui/vue";

/** One choice of a few: Headless UI's list box under our own look. */
defineProps<{ label: string; hiddenLabel?: boolean; choices: readonly { value: T; name: string }[] }>();
const model = defineModel<T>({ required: true });
</script>

<template>
  <Listbox v-model="model" as="div" class="relative">
    <ListboxButton class="button">
      <span class="text-muted" :class="{ 'sr-only': hiddenLabel }">{{ label }}</span>
      {{ choices.find((choice) => choice.value === model)?.name ?? model }}
      <svg viewBox="0 0 12 12" class="size-3" fill="none" stroke="currentColor" stroke-width="1.6" aria-hidden="true">
        <path d="m2.5 4.5 3.5 3.5 3.5-3.5" stroke-linecap="round" stroke-linejoin="round" />
      </svg>
    </ListboxButton>
    <ListboxOptions class="panel absolute z-10 mt-1 max-h-72 min-w-full overflow-auto p-1 shadow-lg">
      <ListboxOption v-for="choice in choices" :key="choice.value" v-slot="{ active, selected }" :value="choice.value">
        <div
          class="flex justify-between gap-4 rounded-md px-3 py-1.5 text-sm whitespace-nowrap"
          :class="{ 'bg-raised': active }"
        >
          {{ choice.name }}<span v-if="selected" aria-hidden="true">✓</span>
        </div>
      </ListboxOption>
    </ListboxOptions>
  </Listbox>
</template>
