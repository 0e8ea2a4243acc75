<script setup lang="ts">
import { computed } from "vue";
import { useNow } from "../composables/useNow";
import { useZone } from "../composables/useQueries";
import { ago, moment } from "../support/format";

const props = defineProps<{ at: string | null }>();
const now = useNow();
const zone = useZone();
const exact = computed(() => (props.at ? `${moment(props.at, zone.value)} ${zone.value}` : ""));
</script>

<template>
  <time v-if="at" :datetime="at" :title="exact" class="whitespace-nowrap">{{ ago(at, now) }}</time>
  <span v-else>never</span>
</template>
