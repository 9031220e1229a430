<script setup lang="ts">
import { Dialog, DialogPanel, DialogTitle } from "@headlessui/vue";
import { computed, reactive, ref, watch } from "vue";
import type { RuleCard } from "../../api/client";
import { CAPABILITIES, blank, fieldsOf, fromRule, sentenceOf } from "./form";

/** Adds or changes a rule without knowing how it is written. */
const props = defineProps<{ open: boolean; rule?: RuleCard; hours: string[]; people: string[]; machines: string[] }>();
const emit = defineEmits<{
  close: [];
  remove: [name: string];
  save: [change: { name?: string; effect?: string; fields: Record<string, unknown> }];
}>();

const form = reactive(blank());
const first = ref<HTMLInputElement>();
watch(
  () => [props.open, props.rule],
  () => Object.assign(form, props.rule ? fromRule(props.rule) : blank()),
  { immediate: true },
);
const demands = computed(() => form.effect === "allow" || form.effect === "require");
const ready = computed(
  () =>
    form.name.trim() !== "" &&
    (form.effect !== "allow" || (form.people && form.machines && form.capabilities.length && form.accounts)),
);

function save() {
  if (!ready.value) return;
  const fields = fieldsOf(form, props.rule);
  emit("save", props.rule ? { name: props.rule.name, fields } : { effect: form.effect, fields });
}
</script>

<template>
  <Dialog :open="open" :initial-focus="first" class="relative z-20" @close="emit('close')">
    <div class="fixed inset-0 bg-[rgb(0_0_0/0.45)]" aria-hidden="true"></div>
    <div class="fixed inset-0 overflow-y-auto p-4">
      <DialogPanel class="sheet mx-auto max-w-2xl p-5 shadow-xl" data-testid="rule-form">
        <DialogTitle as="h2" class="text-[1.25rem]">{{ rule ? `Change ${rule.name}` : "A new rule" }}</DialogTitle>
        <p class="mt-1 text-soft" aria-live="polite">{{ sentenceOf(form) }}</p>
        <form class="mt-4 grid grid-cols-2 gap-x-4 gap-y-3" @submit.prevent="save">
          <label class="block"
            ><span class="label">What it does</span>
            <select v-model="form.effect" class="field w-full" :disabled="!!rule" name="effect">
              <option value="allow">Allow something</option>
              <option value="forbid">Forbid something, whatever else allows it</option>
              <option value="require">Require something of what is allowed</option>
              <option value="never">Never let it become possible (guardrail)</option>
            </select>
          </label>
          <label class="block"
            ><span class="label">Name</span>
            <input ref="first" v-model="form.name" class="field mono w-full" name="name" maxlength="64" required />
          </label>
          <label class="block"
            ><span class="label">Who</span>
            <input
              v-model="form.people"
              class="field mono w-full"
              name="people"
              list="people-selectors"
              placeholder="group:…"
            />
            <datalist id="people-selectors"><option v-for="p in people" :key="p" :value="p"></option></datalist>
          </label>
          <label class="block"
            ><span class="label">Which machines</span>
            <input
              v-model="form.machines"
              class="field mono w-full"
              name="machines"
              list="machine-selectors"
              placeholder="site=…"
            />
            <datalist id="machine-selectors"><option v-for="m in machines" :key="m" :value="m"></option></datalist>
          </label>
          <fieldset class="col-span-2">
            <legend class="label">
              What {{ form.effect === "allow" ? "" : "(everything, where none is ticked)" }}
            </legend>
            <div class="grid grid-cols-4 gap-x-3 gap-y-1">
              <label v-for="c in CAPABILITIES" :key="c" class="flex items-center gap-2"
                ><input v-model="form.capabilities" type="checkbox" :value="c" />{{ c }}</label
              >
            </div>
          </fieldset>
          <label v-if="form.capabilities.includes('forward')" class="col-span-2 block"
            ><span class="label">Targets of forwarded ports</span>
            <input
              v-model="form.targets"
              class="field mono w-full"
              name="targets"
              :placeholder="
                form.effect === 'allow'
                  ? 'the machine itself, or localhost:5432, 10.20.0.0/16:443'
                  : 'all, or localhost:5432, 10.20.0.0/16:443'
              "
            />
          </label>
          <label class="block"
            ><span class="label">Accounts on the machine</span>
            <input v-model="form.accounts" class="field mono w-full" name="accounts" placeholder="operator" />
          </label>
          <label class="block"
            ><span class="label">Hours</span>
            <select v-model="form.hours" class="field w-full" name="hours">
              <option value="">At any time</option>
              <option v-for="h in hours" :key="h" :value="h">{{ h }}</option>
            </select>
          </label>
          <label class="block"
            ><span class="label">First day</span
            ><input v-model="form.first_day" type="date" class="field w-full" name="first_day" />
          </label>
          <label class="block"
            ><span class="label">Last day</span
            ><input v-model="form.last_day" type="date" class="field w-full" name="last_day" />
          </label>
          <label class="col-span-2 block"
            ><span class="label">From addresses</span>
            <input
              v-model="form.from"
              class="field mono w-full"
              name="from"
              placeholder="anywhere, or 10.20.0.0/16, !10.20.9.0/24"
            />
          </label>
          <template v-if="demands">
            <fieldset class="col-span-2">
              <legend class="label">Demanded</legend>
              <div class="grid grid-cols-4 gap-x-3 gap-y-1">
                <label class="flex items-center gap-2"
                  ><input v-model="form.key" type="checkbox" name="key" />a key</label
                >
                <label class="flex items-center gap-2"
                  ><input v-model="form.code" type="checkbox" name="code" />a code</label
                >
                <label class="flex items-center gap-2"
                  ><input v-model="form.reason" type="checkbox" name="reason" />a reason</label
                >
                <label class="flex items-center gap-2"
                  ><input v-model="form.recording" type="checkbox" name="recording" />a recording</label
                >
                <label class="col-span-4 flex items-center gap-2"
                  ><input v-model="form.lock" type="checkbox" name="lock" />its screen locked at the end (by its
                  agent)</label
                >
              </div>
            </fieldset>
            <label class="block"
              ><span class="label">Approval of</span
              ><input
                v-model="form.approval"
                class="field mono w-full"
                name="approval"
                list="people-selectors"
                placeholder="nobody"
              />
            </label>
            <label class="block"
              ><span class="label">Ticket of the form</span
              ><input v-model="form.ticket" class="field mono w-full" name="ticket" placeholder="none, or OBS-*" />
            </label>
            <label class="block"
              ><span class="label">Longest session</span
              ><input v-model="form.session" class="field mono w-full" name="session" placeholder="4h" />
            </label>
            <label class="block"
              ><span class="label">Longest pause</span
              ><input v-model="form.idle" class="field mono w-full" name="idle" placeholder="20min" />
            </label>
          </template>
          <label class="col-span-2 block"
            ><span class="label">What it is for</span
            ><input v-model="form.note" class="field w-full" name="note" maxlength="200" />
          </label>
          <div class="col-span-2 mt-2 flex items-center gap-3">
            <button class="button" data-kind="main" :disabled="!ready">
              {{ rule ? "Change the rule" : "Add the rule" }}
            </button>
            <button type="button" class="button" @click="emit('close')">Leave it</button>
            <button v-if="rule" type="button" class="button ml-auto" @click="emit('remove', rule.name)">
              Remove the rule
            </button>
          </div>
        </form>
      </DialogPanel>
    </div>
  </Dialog>
</template>
