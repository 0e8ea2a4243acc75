<script setup lang="ts">
import { computed, ref, watch } from "vue";
import { useSaveConfig } from "../composables/useConfiguration";
import type { ConfigFile } from "../support/types";
import ConfigDifference from "./ConfigDifference.vue";
import ErrorNote from "./ErrorNote.vue";
import ModalForm from "./ModalForm.vue";
import WhoAndWhy from "./WhoAndWhy.vue";

/** Shows what would be changed, asks who and why, and saves it. */
const props = defineProps<{ file: ConfigFile; isNew: boolean; text: string }>();
const open = defineModel<boolean>({ required: true });
const emit = defineEmits<{ saved: [sha256: string] }>();
const { save, signer } = useSaveConfig();
const why = ref("");
watch(open, (now) => {
  if (!now) return;
  why.value = "";
  save.reset();
});
const ready = computed(() => signer.ready.value && why.value.trim() !== "" && !save.isPending.value);
function agree() {
  const was = props.isNew ? null : props.file.sha256;
  save.mutate(
    { path: props.file.path, text: props.text, was, why: why.value },
    {
      onSuccess: ({ sha256 }) => {
        open.value = false;
        emit("saved", sha256);
      },
    },
  );
}
</script>

<template>
  <ModalForm
    v-model="open"
    title="Save the configuration?"
    yes="Save"
    :ready="ready"
    :typed="why !== ''"
    wide
    @yes="agree"
  >
    <p class="text-sm text-muted">
      It is in force at once: work under way ends under the old rules, gates that are the same go on.
    </p>
    <ConfigDifference v-if="open" :before="file.text" :after="text" />
    <ErrorNote :error="save.error.value" />
    <WhoAndWhy v-model="why" />
  </ModalForm>
</template>
