<script setup lang="ts">
import { RouterView, useRoute } from "vue-router";
import AppBar from "./components/AppBar.vue";
import FaultNote from "./components/FaultNote.vue";
import { usePageFocus } from "./composables/usePageFocus";
import { useTheme } from "./composables/useTheme";

useTheme();
usePageFocus();
const route = useRoute();
</script>

<template>
  <a href="#main" class="sr-only focus:not-sr-only focus:absolute focus:m-2">To the content</a>
  <template v-if="route.name && !route.meta.open">
    <AppBar />
    <FaultNote />
  </template>
  <main id="main" class="mx-auto max-w-7xl px-4 py-5 sm:px-6">
    <RouterView />
  </main>
</template>
