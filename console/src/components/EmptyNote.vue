<script setup lang="ts">
defineProps<{ title: string }>();
</script>

<template>
  <div class="px-4 py-8 text-center">
    <p class="font-medium">{{ title }}</p>
    <p class="mx-auto mt-1 max-w-prose text-sm text-muted"><slot /></p>
  </div>
</template>
