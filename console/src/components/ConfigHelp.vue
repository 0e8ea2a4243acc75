<script setup lang="ts">
import { computed } from "vue";
import type { Place } from "../support/tomlAt";
import type { ConfigKey } from "../support/types";

/** What the key at the cursor means, or which keys there are in its section. */
const props = defineProps<{ keys: ConfigKey[]; place: Place }>();
const inSection = computed(() => props.keys.filter((key) => key.section === props.place.section));
const here = computed(
  () =>
    inSection.value.find((key) => key.key === props.place.key) ?? props.keys.find((key) => key.key === props.place.key),
);
</script>

<template>
  <section class="panel min-w-0" aria-labelledby="help">
    <h2 id="help" class="border-b border-line px-4 py-2.5 font-semibold">
      <code v-if="here">{{ here.key }}</code>
      <template v-else>{{ place.section === "" ? "Help" : place.section }}</template>
    </h2>
    <div class="max-h-56 overflow-y-auto px-4 py-3 text-sm" tabindex="0" aria-label="Help">
      <template v-if="here">
        <p class="[overflow-wrap:anywhere]">{{ here.meaning }}.</p>
        <p v-if="here.default" class="mt-1 text-muted">Without it: {{ here.default }}</p>
        <p class="mt-1 text-xs text-muted">{{ here.section }}</p>
      </template>
      <p v-else-if="inSection.length > 0" class="text-muted">
        Keys here: {{ inSection.map((key) => key.key).join(", ") }}
      </p>
      <p v-else class="text-muted">Put the cursor on a key to read what it means; type to have keys proposed.</p>
    </div>
  </section>
</template>
