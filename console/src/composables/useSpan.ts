/** Which time the charts show: a day by hours, or two hours by five minutes. */

import { computed, ref } from "vue";
import { justBegun } from "../support/chart";
import { useActivity } from "./useQueries";

const DAY = { hours: 24, minutes: 60 };
const LATELY = { hours: 2, minutes: 5 };

export type Span = "day" | "lately";

/** The activity of the chosen time; until one is chosen, the one with more to see. */
export function useSpan() {
  const chosen = ref<Span | null>(null);
  const { data: day } = useActivity(DAY);
  const { data: lately } = useActivity(LATELY);
  const span = computed<Span>({
    get: () => chosen.value ?? (day.value && justBegun(day.value) ? "lately" : "day"),
    set: (value) => {
      chosen.value = value;
    },
  });
  const activity = computed(() => (span.value === "day" ? day.value : lately.value) ?? []);
  const minutes = computed(() => (span.value === "day" ? DAY.minutes : LATELY.minutes));
  return { span, activity, minutes };
}
