<script setup lang="ts">
import { computed, ref, useTemplateRef } from "vue";
import { RouterLink } from "vue-router";
import { useHandIn } from "../composables/useHandIn";
import { useWho } from "../composables/useWho";
import { size, visible } from "../support/format";
import StateTag from "./StateTag.vue";

/** Files are dropped here, or chosen, and handed in at the gate. */
const props = defineProps<{ gate: string }>();
const { files, add, tidy, signer } = useHandIn(() => props.gate);
const who = useWho();
const over = ref(false);
const chooser = useTemplateRef("chooser");
const allOver = computed(() => files.value.every((file) => file.became !== null || file.error !== null));

function dropped(event: DragEvent) {
  over.value = false;
  if (signer.ready.value) add(event.dataTransfer?.files ?? []);
}
function chosen(event: Event) {
  const input = event.target as HTMLInputElement;
  add(input.files ?? []);
  input.value = "";
}
const share = (sent: number, bytes: number) => (bytes === 0 ? 100 : Math.round((100 * sent) / bytes));
</script>

<template>
  <section
    class="panel border-dashed p-4"
    :class="{ 'border-accent bg-raised': over }"
    aria-labelledby="hand-in"
    @dragover.prevent="over = true"
    @dragleave="over = false"
    @drop.prevent="dropped"
  >
    <div class="flex flex-wrap items-center gap-3">
      <div class="min-w-0 flex-1">
        <h2 id="hand-in" class="font-semibold">Hand files in</h2>
        <p class="text-sm text-muted">
          Drop them here: they come as complete, and the history says that it was
          {{ signer.named.value === null ? "you" : visible(signer.named.value) }}.
        </p>
      </div>
      <input
        v-if="signer.named.value === null"
        v-model="who"
        class="field w-40"
        placeholder="Your name"
        autocomplete="name"
        aria-label="Who hands them in"
      />
      <input
        ref="chooser"
        type="file"
        multiple
        class="sr-only"
        tabindex="-1"
        aria-label="Files to hand in"
        @change="chosen"
      />
      <button class="button" :disabled="!signer.ready.value" @click="chooser?.click()">Choose files …</button>
    </div>
    <ul v-if="files.length > 0" class="mt-3 divide-y divide-line border-t border-line text-sm" aria-live="polite">
      <li v-for="file in files" :key="file.key" class="flex flex-wrap items-center gap-x-3 gap-y-1 py-2">
        <span class="min-w-0 break-all">{{ visible(file.name) }}</span>
        <span class="text-muted">{{ size(file.bytes) }}</span>
        <template v-if="file.became">
          <StateTag :word="file.became.state" />
          <RouterLink
            v-if="file.became.entry !== null"
            :to="{ name: 'entry', params: { id: file.became.entry } }"
            class="link"
            >entry {{ file.became.entry }}</RouterLink
          >
          <span v-if="file.became.repeat_of !== null" class="text-muted"
            >the same as entry {{ file.became.repeat_of }}</span
          >
          <span v-if="file.became.reason" class="text-danger">{{ visible(file.became.reason) }}</span>
        </template>
        <span v-else-if="file.error" class="text-danger [overflow-wrap:anywhere]">{{
          visible(file.error.message)
        }}</span>
        <progress
          v-else
          class="h-2 w-40 accent-accent"
          :value="share(file.sent, file.bytes)"
          max="100"
          :aria-label="`${file.name}, ${share(file.sent, file.bytes)} % handed in`"
        />
      </li>
    </ul>
    <button v-if="files.length > 0 && allOver" class="button mt-2" @click="tidy">Put these away</button>
  </section>
</template>
