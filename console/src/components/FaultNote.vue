<script setup lang="ts">
import { useService } from "../composables/useQueries";

/** A changed configuration that was not taken is told on every page. */
const { data: service } = useService();
</script>

<template>
  <div v-if="service?.fault" role="alert" class="border-b border-line bg-danger-soft">
    <div class="mx-auto max-w-7xl px-4 py-2 text-sm sm:px-6">
      <p class="font-medium text-danger">The changed configuration was not taken; the one before is still in force.</p>
      <pre class="mt-1 max-h-40 overflow-auto font-mono text-xs whitespace-pre-wrap">{{ service.fault }}</pre>
    </div>
  </div>
</template>
