<script setup lang="ts">
import { Listbox, ListboxButton, ListboxOption, ListboxOptions } from "@headlessui/vue";
import { visible } from "../support/format";

/** Which fields are shown as columns. */
defineProps<{ fields: string[] }>();
const model = defineModel<string[]>({ required: true });
</script>

<template>
  <Listbox v-model="model" as="div" class="relative" multiple>
    <ListboxButton class="button">
      <span class="text-muted">Columns</span>
      {{ model.length === 0 ? "no fields" : model.map(visible).join(", ") }}
    </ListboxButton>
    <ListboxOptions class="panel absolute right-0 z-10 mt-1 max-h-72 min-w-full overflow-auto p-1 shadow-lg">
      <ListboxOption v-for="field in fields" :key="field" v-slot="{ active, selected }" :value="field">
        <div
          class="flex justify-between gap-4 rounded-md px-3 py-1.5 text-sm whitespace-nowrap"
          :class="{ 'bg-raised': active }"
        >
          {{ visible(field) }}<span aria-hidden="true">{{ selected ? "✓" : "" }}</span>
        </div>
      </ListboxOption>
    </ListboxOptions>
  </Listbox>
</template>
