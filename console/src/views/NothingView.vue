<script setup lang="ts">
import { RouterLink } from "vue-router";
</script>

<template>
  <section class="panel mx-auto mt-[12vh] max-w-md px-4 py-8 text-center">
    <h1 class="font-semibold">There is no such page.</h1>
    <p class="mt-1 text-sm">
      <RouterLink to="/" class="link">To the morning</RouterLink> or
      <RouterLink to="/gates" class="link">to the gates</RouterLink>
    </p>
  </section>
</template>
