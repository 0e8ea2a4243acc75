/** Who does things here: remembered by the browser, sent with every action. */

import { ref, watch } from "vue";

const KEY = "vadegate.who";
const who = ref(localStorage.getItem(KEY) ?? "");
watch(who, (name) => localStorage.setItem(KEY, name));

export const useWho = () => who;
