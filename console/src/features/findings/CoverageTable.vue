<script setup lang="ts">
import { computed } from "vue";
import type { Coverage } from "../../api/client";

/** A strip of days for each machine: a bar where its own log tells of the day, a short one where sessions through Aerie alone do. */
const props = defineProps<{ coverage: Coverage }>();
const WIDTH = 720;
const HEIGHT = 18;
const step = computed(() => WIDTH / Math.max(1, props.coverage.days.length));
const sorted = computed(() =>
  [...props.coverage.machines].sort(
    (a, b) =>
      Number(b.registered) - Number(a.registered) || a.covered - b.covered || a.machine.localeCompare(b.machine),
  ),
);
const bars = (m: Coverage["machines"][number]) =>
  m.lines.flatMap((lines, i) => {
    const sessions = m.sessions[i] ?? 0;
    if (!lines && !sessions) return [];
    const day = props.coverage.days[i];
    const said = lines ? `${lines} lines of its log` : "no log";
    return [
      {
        x: i * step.value,
        height: lines ? HEIGHT - 2 : 5,
        log: lines > 0,
        title: `${day}: ${said}, ${sessions} ${sessions === 1 ? "session" : "sessions"} through Aerie`,
      },
    ];
  });
const sum = (numbers: number[]) => numbers.reduce((a, b) => a + b, 0);
const first = computed(() => props.coverage.days[0]);
const last = computed(() => props.coverage.days.at(-1));
</script>

<template>
  <div class="sheet overflow-x-auto">
    <table class="w-full">
      <thead>
        <tr class="border-b border-line [&>th]:px-3 [&>th]:py-2">
          <th scope="col">Machine</th>
          <th scope="col">
            <span class="flex justify-between"
              ><span>{{ first }}</span
              ><span>{{ last }}</span></span
            >
          </th>
          <th scope="col" class="text-right!">Days with its log</th>
          <th scope="col" class="text-right!">Sessions</th>
        </tr>
      </thead>
      <tbody>
        <tr
          v-for="m in sorted"
          :key="m.machine"
          class="border-b border-line last:border-0 [&>td]:px-3 [&>td]:py-1"
          data-testid="coverage"
        >
          <td class="whitespace-nowrap">
            <RouterLink v-if="m.registered" :to="`/machines/${m.machine}`">{{ m.machine }}</RouterLink>
            <template v-else
              ><span class="mono">{{ m.machine }}</span> <span class="text-soft">not registered</span></template
            >
          </td>
          <td class="w-full">
            <svg
              :viewBox="`0 0 ${WIDTH} ${HEIGHT}`"
              preserveAspectRatio="none"
              class="block h-[18px] w-full min-w-80"
              role="img"
              :aria-label="`${m.covered} of ${coverage.days.length} days with its log`"
            >
              <line x1="0" :x2="WIDTH" :y1="HEIGHT - 0.5" :y2="HEIGHT - 0.5" class="stroke-line" />
              <rect
                v-for="b in bars(m)"
                :key="b.x"
                :x="b.x + 1"
                :y="HEIGHT - b.height - 1"
                :width="Math.max(1, step - 2)"
                :height="b.height"
                :class="b.log ? 'fill-accent' : 'fill-edge'"
              >
                <title>{{ b.title }}</title>
              </rect>
            </svg>
          </td>
          <td class="whitespace-nowrap text-right" :class="m.registered && !m.covered ? 'font-semibold' : ''">
            {{ m.covered ? `${m.covered} of ${coverage.days.length}` : "none" }}
          </td>
          <td class="text-right">{{ sum(m.sessions) }}</td>
        </tr>
      </tbody>
    </table>
  </div>
  <p class="mt-2 text-[0.9rem] text-soft">
    A full bar is a day of which the machine's own log tells; a short one a day with sessions through Aerie alone. Days
    are of UTC. What no log tells of, no audit can find.
  </p>
</template>
