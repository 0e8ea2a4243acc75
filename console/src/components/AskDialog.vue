<script setup lang="ts">
import ModalForm from "./ModalForm.vue";

/** Asks before something is done. */
defineProps<{ title: string; yes: string }>();
const emit = defineEmits<{ yes: [] }>();
const open = defineModel<boolean>({ required: true });

function agree() {
  open.value = false;
  emit("yes");
}
</script>

<template>
  <ModalForm v-model="open" :title="title" :yes="yes" ready @yes="agree">
    <p class="text-sm text-muted"><slot /></p>
  </ModalForm>
</template>
