import { onScopeDispose, readonly, ref } from "vue";

const now = ref(Date.now());
let users = 0;
let timer: ReturnType<typeof setInterval> | undefined;

/**
 * The present in milliseconds since 1970, for texts such as "3 s ago". It moves
 * once a second, for all who use it together.
 */
export function useNow() {
  users += 1;
  now.value = Date.now();
  timer ??= setInterval(() => {
    now.value = Date.now();
  }, 1000);
  onScopeDispose(() => {
    users -= 1;
    if (users > 0) return;
    clearInterval(timer);
    timer = undefined;
  });
  return readonly(now);
}
