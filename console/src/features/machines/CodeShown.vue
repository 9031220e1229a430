<script setup lang="ts">
import { ref } from "vue";
import type { IssuedCode } from "../../api/client";
import { dayAndClock } from "../../lib/time";

/** An enrolment code, shown once: for which machine it is, and what to do with it. */
const props = defineProps<{ issued: IssuedCode; zone: string }>();
const copied = ref(false);
async function copy() {
  await navigator.clipboard.writeText(props.issued.code);
  copied.value = true;
}
</script>

<template>
  <div class="border-l-4 border-l-accent pl-3" role="status">
    <p>
      This code is for
      <strong>{{ issued.about.machine ?? `any machine of the site ${issued.about.site}` }}</strong>, good
      {{ issued.about.uses_left === 1 ? "once" : `${issued.about.uses_left} times` }} until
      {{ dayAndClock(issued.about.expires, zone) }}. It is not shown again.
    </p>
    <code class="my-2 block [overflow-wrap:anywhere]" data-testid="enrolment-code">{{ issued.code }}</code>
    <button type="button" class="button" @click="copy">{{ copied ? "Copied" : "Copy the code" }}</button>
    <ol class="mt-2 list-decimal pl-6">
      <li>{{ issued.steps[0] }} <code>aerie agent enrol</code></li>
      <li>{{ issued.steps[2] }}</li>
      <li>Then <code>aerie agent run</code>, or let systemd run it: <code>aerie agent unit</code>.</li>
    </ol>
  </div>
</template>
