<script setup lang="ts">
import { computed } from "vue";
import { useNow } from "../composables/useNow";
import { useZone } from "../composables/useQueries";
import { ago, minute, moment } from "../support/format";

/** A time, with its age beside it. */
const props = defineProps<{ at: string }>();
const now = useNow();
const zone = useZone();
const exact = computed(() => `${moment(props.at, zone.value)} ${zone.value}`);
</script>

<template>
  <time :datetime="at" :title="exact" class="whitespace-nowrap">
    {{ minute(at, zone) }} <span class="text-xs text-muted">{{ ago(at, now) }}</span>
  </time>
</template>
