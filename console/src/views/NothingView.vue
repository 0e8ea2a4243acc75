<script setup lang="ts">
import { RouterLink } from "vue-router";
import EmptyNote from "../components/EmptyNote.vue";
</script>

<template>
  <section class="panel mx-auto mt-[12vh] max-w-md">
    <EmptyNote title="There is no such page.">
      <RouterLink to="/gates" class="link">To the gates</RouterLink>
    </EmptyNote>
  </section>
</template>
