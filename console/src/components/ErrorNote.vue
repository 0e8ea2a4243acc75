<script setup lang="ts">
defineProps<{ error: Error | null }>();
</script>

<template>
  <p v-if="error" role="alert" class="rounded-md bg-danger-soft px-3 py-2 text-sm text-danger">
    {{ error.message }}
  </p>
</template>
