<script setup lang="ts">
import { RadioGroup, RadioGroupLabel } from "@headlessui/vue";
import { computed } from "vue";
import { visible } from "../support/format";
import type { GateForm, WorkChoice } from "../support/newGate";
import type { GateProposal } from "../support/types";
import ChoiceOption from "./ChoiceOption.vue";
import ColumnTypes from "./ColumnTypes.vue";

/** What becomes of a new gate's files: their work, and their archive. */
const props = defineProps<{ proposal: GateProposal }>();
const form = defineModel<GateForm>({ required: true });
const table = computed(() => props.proposal.table != null);
const works = computed<{ value: WorkChoice; name: string; says: string }[]>(() => [
  { value: "file", name: "File them", says: "each is entered once, and moved into the archive" },
  ...(table.value
    ? ([
        { value: "merge", name: "Merge their rows", says: "into one table, row after row" },
        { value: "load", name: "Load their rows", says: "into a table of a database, each file once" },
      ] as const)
    : []),
]);
</script>

<template>
  <section class="panel min-w-0" aria-labelledby="becomes">
    <h2 id="becomes" class="border-b border-line px-4 py-2.5 font-semibold">What becomes of them</h2>
    <div class="space-y-3 px-4 py-3 text-sm">
      <RadioGroup v-model="form.work">
        <RadioGroupLabel class="sr-only">Work</RadioGroupLabel>
        <ChoiceOption v-for="work in works" :key="work.value" :value="work.value">
          <span
            ><b class="font-medium">{{ work.name }}</b> <span class="text-muted">{{ work.says }}</span></span
          >
        </ChoiceOption>
      </RadioGroup>
      <p v-if="proposal.found" class="[overflow-wrap:anywhere] text-muted">
        The sample: {{ visible(proposal.found) }}.
      </p>
      <template v-if="table && form.work !== 'file'">
        <label v-if="form.work === 'merge'" class="block">
          <span class="label mb-1 block">Into the file</span>
          <input v-model="form.output" class="field w-full font-mono" spellcheck="false" autocomplete="off" />
        </label>
        <div v-else class="grid gap-3 sm:grid-cols-2">
          <label class="block">
            <span class="label mb-1 block">Into the database</span>
            <input v-model="form.database" class="field w-full font-mono" spellcheck="false" autocomplete="off" />
          </label>
          <label class="block">
            <span class="label mb-1 block">Table</span>
            <input v-model="form.table" class="field w-full font-mono" spellcheck="false" autocomplete="off" />
          </label>
        </div>
        <ColumnTypes v-model="form.columns" />
      </template>
      <fieldset>
        <legend class="label mb-1">The archive</legend>
        <label class="flex items-center gap-2">
          <input v-model="form.leave" type="checkbox" class="size-4 accent-accent" />
          Leave the files where they are
        </label>
        <input
          v-if="!form.leave"
          v-model="form.archive"
          class="field mt-2 w-full font-mono"
          spellcheck="false"
          autocomplete="off"
          aria-label="Folder into which they are moved"
        />
      </fieldset>
    </div>
  </section>
</template>
