<script setup lang="ts">
import { Menu, MenuButton, MenuItem, MenuItems } from "@headlessui/vue";
import { useQueryClient } from "@tanstack/vue-query";
import { RouterLink, useRouter } from "vue-router";
import { useMay, useSession } from "../composables/useMe";
import { useService } from "../composables/useQueries";
import { THEMES, useTheme } from "../composables/useTheme";
import { forgetTagged, remove } from "../support/api";
import { visible } from "../support/format";

const { theme } = useTheme();
const { data: service } = useService();
const { data: session } = useSession();
const admin = useMay("admin");
const pages = [
  { name: "account", words: "Account", ofAdmin: false },
  { name: "configuration", words: "Configuration", ofAdmin: true },
  { name: "people", words: "People and tokens", ofAdmin: true },
  { name: "audit", words: "Audit log", ofAdmin: true },
];
const router = useRouter();
const queries = useQueryClient();
const NAMES = { system: "As the system", light: "Light", dark: "Dark" };

async function signOut() {
  await remove("/session");
  queries.clear();
  forgetTagged();
  await router.push({ name: "sign-in" });
}
</script>

<template>
  <Menu as="div" class="relative">
    <MenuButton class="button px-2" aria-label="Settings">
      <svg viewBox="0 0 20 20" class="size-4" fill="none" stroke="currentColor" stroke-width="1.8" aria-hidden="true">
        <path d="M3 5h14M3 10h14M3 15h14" stroke-linecap="round" />
      </svg>
    </MenuButton>
    <MenuItems class="panel absolute right-0 mt-1 w-56 p-1 shadow-lg">
      <p v-if="session?.signed_in" class="px-3 pt-2 pb-1 text-sm [overflow-wrap:anywhere]">
        <span class="font-medium">{{ session.local ? "With the local token" : visible(session.name ?? "") }}</span>
        <span class="block text-xs text-muted">{{ session.role }}</span>
      </p>
      <MenuItem
        v-for="page in pages.filter((one) => admin || !one.ofAdmin)"
        :key="page.name"
        v-slot="{ active, close }"
      >
        <RouterLink
          :to="{ name: page.name }"
          class="block rounded-md px-3 py-1.5 text-sm"
          :class="{ 'bg-raised': active }"
          @click="close"
          >{{ page.words }}</RouterLink
        >
      </MenuItem>
      <p class="label mt-1 border-t border-line px-3 pt-2 pb-1">Colours</p>
      <MenuItem v-for="name in THEMES" :key="name" v-slot="{ active }">
        <button
          class="flex w-full justify-between rounded-md px-3 py-1.5 text-left text-sm"
          :class="{ 'bg-raised': active }"
          @click="theme = name"
        >
          {{ NAMES[name] }}
          <span v-if="theme === name" aria-label="chosen">✓</span>
        </button>
      </MenuItem>
      <MenuItem v-slot="{ active }">
        <button
          class="mt-1 w-full rounded-md border-t border-line px-3 py-2 text-left text-sm"
          :class="{ 'bg-raised': active }"
          @click="signOut"
        >
          Sign out
        </button>
      </MenuItem>
      <p v-if="service" class="border-t border-line px-3 py-2 text-xs break-all text-muted">
        Version {{ service.version }}<br />{{ service.configuration }}
      </p>
    </MenuItems>
  </Menu>
</template>
