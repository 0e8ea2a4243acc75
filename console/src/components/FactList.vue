<script setup lang="ts">
/** Names and values, for reading. */
defineProps<{ facts: { name: string; value: string | null; code?: boolean }[] }>();
</script>

<template>
  <dl class="grid grid-cols-[auto_minmax(0,1fr)] gap-x-4 gap-y-1.5 text-sm">
    <template v-for="fact in facts" :key="fact.name">
      <template v-if="fact.value !== null && fact.value !== ''">
        <dt class="text-muted">{{ fact.name }}</dt>
        <dd class="min-w-0 [overflow-wrap:anywhere]" :class="{ 'font-mono text-[0.8125rem]': fact.code }">
          {{ fact.value }}
        </dd>
      </template>
    </template>
  </dl>
</template>
