<script setup lang="ts">
import { computed } from "vue";
import { RouterLink, type RouteLocationRaw } from "vue-router";
import { layout, type Placed, shortened } from "../support/family";
import { counted, visible } from "../support/format";
import type { Family } from "../support/types";

/** Files and works, and what came from what: from left to right. */
const props = defineProps<{ family: Family; of: string }>();
const drawn = computed(() => layout(shortened(props.family, props.of)));

const [WIDE, HIGH, GAP_X, GAP_Y] = [200, 52, 40, 14];
const x = (at: Placed) => at.column * (WIDE + GAP_X);
const y = (at: Placed) => at.row * (HIGH + GAP_Y);
const size = computed(() => ({
  width: Math.max(0, drawn.value.columns * (WIDE + GAP_X) - GAP_X),
  height: Math.max(0, drawn.value.rows * (HIGH + GAP_Y) - GAP_Y),
}));
function curve({ from, to }: { from: Placed; to: Placed }) {
  const [x1, y1] = [x(from) + WIDE, y(from) + HIGH / 2];
  const [x2, y2] = [x(to), y(to) + HIGH / 2];
  const bend = Math.max(30, (x2 - x1) / 2);
  return `M${x1} ${y1}C${x1 + bend} ${y1} ${x2 - bend} ${y2} ${x2} ${y2}`;
}
const KINDS = { entry: "Entry", work: "Batch", output: "Output" };
const LOOKS = {
  entry: "border-line bg-surface",
  work: "border-transparent bg-quiet-soft text-quiet",
  output: "border-accent bg-surface",
};
function to({ member }: Placed): RouteLocationRaw | null {
  if (member.entry !== null) return { name: "entry", params: { id: member.entry } };
  return member.kind === "output" ? { name: "lineage", query: { output: member.name } } : null;
}
const shortName = (name: string) => visible(name.split("/").at(-1) ?? name);
function words({ member }: Placed): string {
  if (member.kind === "work") return `${member.key.replace("work", "batch")} of ${member.gate ?? ""}`;
  const rows = member.rows === null ? "" : `, ${counted(member.rows, "row")}`;
  if (member.kind === "output") return `output${rows}`;
  return `${member.gate ?? ""} ${member.entry ?? ""}, ${member.state ?? ""}${rows}`;
}
</script>

<template>
  <div class="overflow-auto p-4" tabindex="0" role="region" aria-label="What came from what">
    <div class="relative" :style="{ width: `${size.width}px`, height: `${size.height}px` }">
      <svg class="absolute inset-0 text-muted" :width="size.width" :height="size.height" aria-hidden="true">
        <path v-for="(link, at) in drawn.links" :key="at" :d="curve(link)" fill="none" stroke="currentColor" />
      </svg>
      <ul>
        <li
          v-for="one in drawn.placed"
          :key="one.member.key"
          class="absolute rounded-md border px-2.5 py-1.5 text-sm"
          :class="[LOOKS[one.member.kind], { 'outline-2 outline-offset-2 outline-accent': one.member.key === of }]"
          :style="{ left: `${x(one)}px`, top: `${y(one)}px`, width: `${WIDE}px`, height: `${HIGH}px` }"
        >
          <span class="sr-only">{{ KINDS[one.member.kind] }}: </span>
          <RouterLink
            v-if="to(one)"
            :to="to(one)!"
            class="link block truncate font-medium after:absolute after:inset-0"
            :title="visible(one.member.name)"
            >{{ shortName(one.member.name) }}</RouterLink
          >
          <span v-else class="block truncate font-medium">{{ one.member.name }}</span>
          <span class="block truncate text-xs text-muted">{{ words(one) }}</span>
        </li>
      </ul>
    </div>
  </div>
</template>
