<script setup lang="ts">
import { RouterLink } from "vue-router";
import { useLive } from "../composables/useLive";
import AppBarLine from "./AppBarLine.vue";
import AppBarMenu from "./AppBarMenu.vue";
import SearchDialog from "./SearchDialog.vue";

const { line } = useLive();
const pages = [
  { to: "/", name: "Morning", within: ["morning"] },
  { to: "/gates", name: "Gates", within: ["gates", "gate"] },
  { to: "/held", name: "Held", within: ["held"] },
  { to: "/ledger", name: "Ledger", within: ["ledger", "entry"] },
  { to: "/outputs", name: "Outputs", within: ["outputs", "table", "lineage"] },
  { to: "/clears", name: "Clears", within: ["clears"] },
];
</script>

<template>
  <header class="sticky top-0 z-20 border-b border-line bg-surface">
    <div class="mx-auto flex max-w-7xl flex-wrap items-center gap-x-3 gap-y-1 px-4 py-2 sm:gap-x-6 sm:px-6">
      <RouterLink to="/" class="flex items-center gap-2 font-semibold">
        <img src="/mark.svg" alt="" class="size-7" />
        <span>Vadegate</span>
      </RouterLink>
      <nav
        aria-label="Pages"
        class="flex gap-1 max-md:order-last max-md:-mx-2 max-md:w-full max-md:gap-0 max-md:overflow-x-auto"
      >
        <RouterLink
          v-for="page in pages"
          :key="page.to"
          :to="page.to"
          class="rounded-md px-3 py-1.5 text-sm font-medium hover:bg-raised max-md:px-1.5 max-md:text-[0.8125rem]"
          :class="page.within.includes(String($route.name)) ? 'bg-raised text-text' : 'text-muted'"
          :aria-current="page.within.includes(String($route.name)) ? 'page' : undefined"
        >
          {{ page.name }}
        </RouterLink>
      </nav>
      <div class="ml-auto flex items-center gap-3">
        <SearchDialog />
        <AppBarLine :line="line" />
        <AppBarMenu />
      </div>
    </div>
  </header>
</template>
