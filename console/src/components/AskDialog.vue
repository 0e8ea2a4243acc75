<script setup lang="ts">
import { Dialog, DialogPanel, DialogTitle } from "@headlessui/vue";

/** Asks before something is done: Headless UI's dialog under our own look. */
defineProps<{ title: string; yes: string }>();
const emit = defineEmits<{ yes: [] }>();
const open = defineModel<boolean>({ required: true });

function agree() {
  open.value = false;
  emit("yes");
}
</script>

<template>
  <Dialog :open="open" class="relative z-30" @close="open = false">
    <div class="fixed inset-0 bg-black/50" aria-hidden="true" />
    <div class="fixed inset-0 flex items-center justify-center p-4">
      <DialogPanel class="panel w-full max-w-md space-y-4 p-5 shadow-xl">
        <DialogTitle class="text-lg font-semibold">{{ title }}</DialogTitle>
        <p class="text-sm text-muted"><slot /></p>
        <div class="flex justify-end gap-2">
          <button class="button" @click="open = false">Leave it</button>
          <button class="button button-main" @click="agree">{{ yes }}</button>
        </div>
      </DialogPanel>
    </div>
  </Dialog>
</template>
