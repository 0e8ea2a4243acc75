<script setup lang="ts">
import { Dialog, DialogPanel, DialogTitle } from "@headlessui/vue";
import { onScopeDispose } from "vue";

/**
 * A dialog that asks: Enter says yes, Escape leaves it, and so does a click outside, unless
 * something was typed that would be lost.
 */
const props = defineProps<{
  title: string;
  /** On the button that does it; without it there is nothing left to be done. */
  yes?: string | undefined;
  no?: string | undefined;
  ready?: boolean;
  /** Whether something was typed. */
  typed?: boolean;
  /** Whether it takes something away. */
  danger?: boolean;
  wide?: boolean;
}>();
const emit = defineEmits<{ yes: [] }>();
const open = defineModel<boolean>({ required: true });

let outside = false;
const pressed = () => (outside = true);
const keyed = () => (outside = false);
window.addEventListener("pointerdown", pressed, true);
window.addEventListener("keydown", keyed, true);
onScopeDispose(() => {
  window.removeEventListener("pointerdown", pressed, true);
  window.removeEventListener("keydown", keyed, true);
});
function close() {
  if (!(props.typed && outside)) open.value = false;
}
</script>

<template>
  <Dialog :open="open" class="relative z-30" @close="close">
    <div class="fixed inset-0 bg-black/50" aria-hidden="true" />
    <div class="fixed inset-0 flex items-center justify-center p-4">
      <DialogPanel
        class="panel max-h-full w-full overflow-y-auto p-5 shadow-xl"
        :class="wide ? 'max-w-lg' : 'max-w-md'"
      >
        <form class="space-y-4" @submit.prevent="ready && emit('yes')">
          <DialogTitle class="text-lg font-semibold">{{ title }}</DialogTitle>
          <slot />
          <div class="flex justify-end gap-2">
            <button type="button" class="button" @click="open = false">{{ no ?? "Leave it" }}</button>
            <button
              v-if="yes"
              type="submit"
              class="button"
              :class="danger ? 'button-danger' : 'button-main'"
              :disabled="!ready"
            >
              {{ yes }}
            </button>
          </div>
        </form>
      </DialogPanel>
    </div>
  </Dialog>
</template>
