<script setup lang="ts">
import { RouterLink } from "vue-router";
import { visible } from "../support/format";
import type { HandedIn } from "../support/types";

/** What became of a mended file. */
defineProps<{ became: HandedIn }>();
</script>

<template>
  <p class="panel px-4 py-2.5 text-sm" role="status">
    The mended file came as
    <RouterLink v-if="became.entry !== null" :to="{ name: 'entry', params: { id: became.entry } }" class="link"
      >entry {{ became.entry }}</RouterLink
    ><template v-else>a file that waits</template>, {{ became.state
    }}<template v-if="became.reason">: {{ visible(became.reason) }}</template
    >; what was held is filed as it is.
  </p>
</template>
