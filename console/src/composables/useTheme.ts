/** Light, dark, or as the system has it; kept in the browser. */

import { ref, watchEffect } from "vue";

export type Theme = "system" | "light" | "dark";
export const THEMES: readonly Theme[] = ["system", "light", "dark"];

const KEY = "vadegate-theme";
const dark = matchMedia("(prefers-color-scheme: dark)");
const systemDark = ref(dark.matches);
dark.addEventListener("change", (event) => {
  systemDark.value = event.matches;
});

const stored = localStorage.getItem(KEY);
const theme = ref<Theme>(stored === "light" || stored === "dark" ? stored : "system");

watchEffect(() => {
  const isDark = theme.value === "dark" || (theme.value === "system" && systemDark.value);
  document.documentElement.dataset.theme = isDark ? "dark" : "light";
  localStorage.setItem(KEY, theme.value);
});

export function useTheme() {
  return { theme };
}
