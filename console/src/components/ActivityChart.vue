<script setup lang="ts">
import { computed } from "vue";
import { useZone } from "../composables/useQueries";
import { type Bar, ceiling } from "../support/chart";
import { clock, count, counted } from "../support/format";

/** Arrivals over time as bars; those that were held stand on top. */
const props = defineProps<{ bars: Bar[]; minutes: number }>();
const zone = useZone();

const HEIGHT = 44;
const top = computed(() => ceiling(Math.max(...props.bars.map((bar) => bar.good + bar.held), 0)));
const total = computed(() => props.bars.reduce((sum, bar) => sum + bar.good + bar.held, 0));
const each = computed(() => (props.minutes === 60 ? "hour" : `${props.minutes} min`));
const width = computed(() => 100 / Math.max(1, props.bars.length));
const tall = (number: number) => (number / top.value) * HEIGHT;
const ends = computed(() => {
  const [first, last] = [props.bars.at(0), props.bars.at(-1)];
  return first && last ? [clock(first.begins, zone.value), clock(last.begins, zone.value)] : [];
});
const told = (bar: Bar) =>
  `${clock(bar.begins, zone.value)}: ${counted(bar.good + bar.held, "arrival")}` +
  (bar.held > 0 ? `, ${bar.held} held` : "");
</script>

<template>
  <figure>
    <figcaption class="flex justify-between text-xs text-muted">
      <span>Arrivals per {{ each }}</span
      ><span>{{ count(total) }} in all</span>
    </figcaption>
    <div class="mt-1 flex gap-1.5">
      <div
        class="flex w-8 flex-col justify-between text-right text-[0.6875rem] leading-none text-muted"
        aria-hidden="true"
      >
        <span>{{ count(top) }}</span><span>0</span>
      </div>
      <svg
        class="h-11 flex-1 border-b border-line"
        :viewBox="`0 0 100 ${HEIGHT}`"
        preserveAspectRatio="none"
        role="img"
        :aria-label="`${counted(total, 'arrival')} from ${ends.join(' to ')}, at most ${top} per ${each}`"
      >
        <g v-for="(bar, at) in bars" :key="bar.begins">
          <title>{{ told(bar) }}</title>
          <rect :x="at * width" y="0" :width="width" :height="HEIGHT" fill="transparent" />
          <rect
            :x="at * width + width * 0.12"
            :width="width * 0.76"
            :y="HEIGHT - tall(bar.good)"
            :height="tall(bar.good)"
            class="fill-bar"
          />
          <rect
            v-if="bar.held > 0"
            :x="at * width + width * 0.12"
            :width="width * 0.76"
            :y="HEIGHT - tall(bar.good + bar.held)"
            :height="Math.max(tall(bar.held), 1.5)"
            class="fill-danger"
          />
        </g>
      </svg>
    </div>
    <div class="mt-0.5 ml-9.5 flex justify-between text-[0.6875rem] text-muted" aria-hidden="true">
      <span v-for="end in ends" :key="end">{{ end }}</span>
    </div>
  </figure>
</template>
