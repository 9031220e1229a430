import { ref } from "vue";
import { failure, type Check, type CheckLine, type MachineCheck } from "../../api/client";
import { readLines } from "../../lib/lines";

/** Checks a machine, and shows each step as it comes (the answer is a line of JSON for each). */
export function useCheck() {
  const steps = ref<Check[]>([]);
  const done = ref<MachineCheck | null>(null);
  const running = ref(false);
  const error = ref("");

  function take(line: CheckLine) {
    if ("step" in line) steps.value = [...steps.value, line.step.result];
    else if ("done" in line) [done.value, steps.value] = [line.done, [...line.done.results]];
    else error.value = line.failed.why;
  }

  async function check(machine: string) {
    [steps.value, done.value, running.value, error.value] = [[], null, true, ""];
    try {
      const answer = await fetch(`/api/v1/machines/${encodeURIComponent(machine)}/check`, { method: "POST" });
      if (!answer.ok) throw await failure(answer);
      await readLines<CheckLine>(answer, take);
    } catch (why) {
      error.value = why instanceof Error ? why.message : String(why);
    }
    running.value = false;
  }

  return { steps, done, running, error, check };
}
