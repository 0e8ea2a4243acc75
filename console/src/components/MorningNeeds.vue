<script setup lang="ts">
import { computed } from "vue";
import { useZone } from "../composables/useQueries";
import { count, counted, moment, visible } from "../support/format";
import type { Board, Happening } from "../support/types";
import NeedsList, { type Need } from "./NeedsList.vue";

/** What needs a person, and what is worth a look. */
const props = defineProps<{ board: Board }>();
const zone = useZone();
const gate = (name: string) => ({ name: "gate", params: { gate: name } });

const late = computed<Need[]>(() =>
  props.board.late.map((cell) => ({
    key: `${cell.due} ${cell.value ?? ""} ${cell.day}`,
    name: `${visible(cell.value ?? cell.due)}`,
    words: `${cell.state === "missing" ? "missing" : "late"} since ${moment(cell.by, zone.value)}: ${visible(cell.words)}`,
    to: { name: "morning", query: { due: cell.due } },
  })),
);
const held = computed<Need[]>(() =>
  props.board.held.map((group) => ({
    key: `${group.gate} ${group.reason}`,
    name: `${group.gate}: ${count(group.count)} held`,
    words: visible(group.reason),
    to: { name: "held", query: { entry: String(group.entries[0]) } },
  })),
);
const happened = (all: Happening[]): Need[] =>
  all.map((one) => ({
    key: String(one.id),
    name: visible(one.subject),
    words: `${visible(one.words)}, since ${moment(one.at, zone.value)}`,
    ...(one.entry ? { to: { name: "entry", params: { id: String(one.entry) } } } : {}),
  }));
const breaches = computed(() => happened(props.board.breaches));
const unusual = computed(() => happened(props.board.unusual));
const troubled = computed<Need[]>(() =>
  props.board.troubled.map((one) => ({
    key: one.gate + one.problem,
    name: one.gate,
    words: visible(one.problem),
    to: gate(one.gate),
  })),
);
const silent = computed<Need[]>(() =>
  props.board.silent.map((tell) => ({
    key: tell.name,
    name: tell.name,
    words: `${count(tell.waiting)} waiting, ${count(tell.failed)} given up: ${visible(tell.problem ?? "")}`,
  })),
);
const paused = computed<Need[]>(() =>
  props.board.paused.map((one) => ({
    key: one.gate,
    name: one.gate,
    words: one.pause?.by ? `by ${visible(one.pause.by)}` : "",
    to: gate(one.gate),
  })),
);
const untaken = computed<Need[]>(() =>
  props.board.untaken.map((one) => ({
    key: one.gate,
    name: one.gate,
    words: counted(one.files, "file"),
    to: gate(one.gate),
  })),
);
</script>

<template>
  <div class="grid min-w-0 items-start gap-4">
    <NeedsList title="late or missing" :needs="late" :total="board.late_count" urgent />
    <NeedsList
      title="reasons for which files are held"
      one="reason for which files are held"
      :needs="held"
      urgent
      :more="{ name: 'held' }"
    />
    <NeedsList title="limits broken" one="limit broken" :needs="breaches" urgent />
    <NeedsList title="troubles of gates" one="trouble of gates" :needs="troubled" urgent />
    <NeedsList title="tells that do not arrive" one="tell that does not arrive" :needs="silent" urgent />
    <NeedsList title="unusual files" one="unusual file" :needs="unusual" />
    <NeedsList title="gates paused" one="gate paused" :needs="paused" />
    <NeedsList
      title="gates with files that no pattern takes"
      one="gate with files that no pattern takes"
      :needs="untaken"
    />
  </div>
</template>
