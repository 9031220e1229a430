<script setup lang="ts">
import type { Finding } from "../../api/client";
import { dayAndClock } from "../../lib/time";
import { STATES, capital, kindName } from "./kinds";

/** One finding in the list: how much it matters, its sentence, and how far it is. */
defineProps<{ finding: Finding; zone: string }>();
</script>

<template>
  <li
    class="grid grid-cols-[5.5rem_1fr] gap-x-4 px-4 py-3 sm:grid-cols-[5.5rem_1fr_auto]"
    data-testid="finding"
    :data-state="finding.state"
  >
    <span v-if="finding.settled" class="text-soft">{{ STATES[finding.state] }}</span>
    <span
      v-else
      :class="
        ['low', 'medium'].includes(finding.importance)
          ? finding.importance === 'low'
            ? 'text-soft'
            : 'font-semibold'
          : 'font-semibold text-viol'
      "
      >{{ capital(finding.importance) }}</span
    >
    <div class="wrap-anywhere">
      <RouterLink :to="`/findings/${finding.id}`">{{ finding.sentence }}</RouterLink>
      <p class="mt-0.5 text-[0.9rem] text-soft">
        {{ kindName(finding.kind)
        }}<template v-if="finding.state === 'acknowledged' || finding.state === 'in-work'">
          · <span class="text-ink">{{ STATES[finding.state] }}</span></template
        ><template v-if="finding.owner"> · {{ finding.owner }}'s</template
        ><template v-if="finding.due"> · due {{ dayAndClock(finding.due, zone) }}</template
        ><template v-if="finding.lines.length">
          · {{ finding.lines.length }} {{ finding.lines.length === 1 ? "line" : "lines" }} of evidence</template
        ><template v-if="finding.settled"> · by {{ finding.settled.by }}: {{ finding.settled.why }}</template
        ><template v-if="finding.session">
          ·
          <RouterLink
            :to="{
              path: `/sessions/${finding.session}`,
              query: finding.moment_ms != null ? { t: finding.moment_ms } : {},
            }"
            >{{ finding.moment_ms != null ? "the moment in the recording" : "the session" }}</RouterLink
          ></template
        >
      </p>
    </div>
    <time class="col-start-2 whitespace-nowrap text-soft sm:col-start-3">{{ dayAndClock(finding.last, zone) }}</time>
  </li>
</template>
