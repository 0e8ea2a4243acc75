<script setup lang="ts">
import { Dialog, DialogPanel, DialogTitle } from "@headlessui/vue";
import { computed, ref, watch } from "vue";
import { useSigner } from "../composables/useMe";
import WhoAndWhy from "./WhoAndWhy.vue";

/** Asks who clears, and why: it stands with each removal. */
defineProps<{ title: string; yes: string }>();
const emit = defineEmits<{ yes: [why: string] }>();
const open = defineModel<boolean>({ required: true });
const signer = useSigner();
const why = ref("");
watch(open, (now) => {
  if (now) why.value = "";
});
const ready = computed(() => signer.ready.value && why.value.trim() !== "");

function agree() {
  open.value = false;
  emit("yes", why.value);
}
</script>

<template>
  <Dialog :open="open" class="relative z-30" @close="open = false">
    <div class="fixed inset-0 bg-black/50" aria-hidden="true" />
    <div class="fixed inset-0 flex items-center justify-center p-4">
      <DialogPanel class="panel w-full max-w-md space-y-4 p-5 shadow-xl">
        <DialogTitle class="text-lg font-semibold">{{ title }}</DialogTitle>
        <p class="text-sm text-muted">
          What has come under way since the rehearsal stays. Every removal is kept in the ledger.
        </p>
        <WhoAndWhy v-model="why" />
        <div class="flex justify-end gap-2">
          <button class="button" @click="open = false">Leave it</button>
          <button class="button button-main" :disabled="!ready" @click="agree">{{ yes }}</button>
        </div>
      </DialogPanel>
    </div>
  </Dialog>
</template>
