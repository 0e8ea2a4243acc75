<script setup lang="ts">
import { computed, ref, watch } from "vue";
import { useSigner } from "../composables/useMe";
import ModalForm from "./ModalForm.vue";
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
  <ModalForm v-model="open" :title="title" :yes="yes" :ready="ready" :typed="why !== ''" danger @yes="agree">
    <p class="text-sm text-muted">
      What has come under way since the rehearsal stays. Every removal is kept in the ledger.
    </p>
    <WhoAndWhy v-model="why" />
  </ModalForm>
</template>
