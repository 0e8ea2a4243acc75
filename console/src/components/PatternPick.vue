<script setup lang="ts">
import { RadioGroup, RadioGroupLabel } from "@headlessui/vue";
import { count, visible } from "../support/format";
import type { GateProposal } from "../support/types";
import ChoiceOption from "./ChoiceOption.vue";

/** Which files a new gate takes: one of the proposed patterns, or one's own. */
defineProps<{ proposal: GateProposal }>();
const name = defineModel<string>("name", { required: true });
const pattern = defineModel<string>("pattern", { required: true });
const fields = (captured: Record<string, string>) =>
  Object.entries(captured)
    .map(([name, value]) => `${name} ${visible(value)}`)
    .join(" · ");
</script>

<template>
  <section class="panel min-w-0" aria-labelledby="which">
    <h2 id="which" class="border-b border-line px-4 py-2.5 font-semibold">The gate, and what it takes</h2>
    <div class="space-y-3 px-4 py-3 text-sm">
      <p v-if="proposal.gates.length > 0" class="rounded-md bg-wait-soft px-3 py-2 text-wait" role="alert">
        {{ proposal.gates.length === 1 ? "The gate" : "The gates" }}
        <b>{{ proposal.gates.map(visible).join(", ") }}</b> {{ proposal.gates.length === 1 ? "looks" : "look" }} into
        this folder already. What two gates want, the one that is first takes.
      </p>
      <label class="block">
        <span class="label mb-1 block">Name of the gate</span>
        <input v-model="name" class="field w-full" spellcheck="false" autocomplete="off" />
      </label>
      <RadioGroup v-model="pattern">
        <RadioGroupLabel class="label mb-1 block">Proposed</RadioGroupLabel>
        <ChoiceOption v-for="one in proposal.patterns" :key="one.pattern" :value="one.pattern">
          <span class="min-w-0 flex-1">
            <span class="block font-mono break-all">{{ visible(one.pattern) }}</span>
            <span v-if="Object.keys(one.fields).length > 0" class="block text-xs [overflow-wrap:anywhere] text-muted">{{
              fields(one.fields)
            }}</span>
          </span>
          <span class="text-right whitespace-nowrap text-muted"
            >takes {{ count(one.taken) }}, leaves {{ count(one.left) }}</span
          >
        </ChoiceOption>
      </RadioGroup>
      <label class="block">
        <span class="label mb-1 block">Patterns, one to a line; give the fields names of your own</span>
        <textarea v-model="pattern" class="field w-full font-mono" rows="2" spellcheck="false" autocomplete="off" />
      </label>
    </div>
  </section>
</template>
