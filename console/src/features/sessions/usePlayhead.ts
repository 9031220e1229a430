import { onBeforeUnmount, ref, watch, type Ref } from "vue";
import { LONGEST_PAUSE } from "../../lib/recording";

export const STEP = 5000;

/** Where a recording is played, and how fast. `show` shows a moment; `coming` says when something happens next after it. */
export function usePlayhead(length: Ref<number>, show: (to: number) => void, coming: (after: number) => number) {
  const at = ref(0);
  const playing = ref(false);
  const speed = ref(2);
  const skipIdle = ref(true);
  /** What is to be shown has not arrived yet: time stands still. */
  const waiting = ref(false);
  let timer = 0;
  let last = 0;

  function seek(to: number) {
    const target = Math.min(length.value, Math.max(0, to));
    show(target);
    at.value = target;
  }

  function step(now: number) {
    let to = at.value + (waiting.value ? 0 : (now - last) * speed.value);
    last = now;
    const next = coming(at.value);
    if (!waiting.value && skipIdle.value && next - to > LONGEST_PAUSE) to = next - LONGEST_PAUSE;
    seek(to);
    if (at.value >= length.value) playing.value = false;
    else if (playing.value) timer = requestAnimationFrame(step);
  }

  watch(playing, (on) => {
    cancelAnimationFrame(timer);
    if (!on) return;
    if (at.value >= length.value) seek(0);
    last = performance.now();
    timer = requestAnimationFrame(step);
  });

  // A recording that goes on is followed by whoever looks at its end.
  watch(length, (now, before) => {
    if (!playing.value && at.value >= before) seek(now);
  });

  /** Keys: space, left, right, home, end. */
  function key(event: KeyboardEvent) {
    const jumps: Record<string, () => void> = {
      " ": () => (playing.value = !playing.value),
      ArrowLeft: () => seek(at.value - STEP),
      ArrowRight: () => seek(at.value + STEP),
      Home: () => seek(0),
      End: () => seek(length.value),
    };
    const jump = jumps[event.key];
    if (
      jump &&
      !(event.target instanceof HTMLSelectElement) &&
      !(event.target instanceof HTMLButtonElement && event.key === " ")
    ) {
      event.preventDefault();
      jump();
    }
  }

  onBeforeUnmount(() => cancelAnimationFrame(timer));
  return {
    at,
    playing,
    speed,
    skipIdle,
    waiting,
    seek,
    key,
    turn: () => (playing.value = !playing.value),
    setSpeed: (to: number) => (speed.value = to),
    setSkipIdle: (on: boolean) => (skipIdle.value = on),
  };
}

export type Playhead = ReturnType<typeof usePlayhead>;
