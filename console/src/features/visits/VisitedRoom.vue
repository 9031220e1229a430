<script setup lang="ts">
import { computed, ref, watchEffect } from "vue";
import type { VisitPass } from "../../api/client";
import { ago } from "../../lib/time";
import ProblemNote from "../../ui/ProblemNote.vue";
import ProgramOffer from "./ProgramOffer.vue";
import VisitedFiles from "./VisitedFiles.vue";
import VisitedUses from "./VisitedUses.vue";
import { useVisited } from "./useVisited";

/** What whoever is helped sees from the PIN on: who asks, for what, and what they share. */
const props = defineProps<{ pass: VisitPass }>();
const visit = useVisited(props.pass);
const text = ref("");
const s = computed(() => visit.standing.value);
const allowed = computed(() => (s.value?.agreed?.length ?? 0) > 0);
const controlled = computed(() => s.value?.uses.includes("control") ?? false);
const runs = computed(() => s.value?.program === "runs");
const initials = computed(() =>
  (s.value?.helper ?? "")
    .split(/\s+/)
    .map((w) => w[0] ?? "")
    .slice(0, 2)
    .join(""),
);
const heading = computed(() => {
  if (visit.over.value) return "The visit is over";
  if (!s.value) return "One moment …";
  if (!s.value.helper) return s.value.before ? `${s.value.before} wait before you` : "You are next";
  if (!s.value.agreed) return `${s.value.helper} would like to help you`;
  if (controlled.value) return `${s.value.helper} controls your computer`;
  if (visit.share.sharing.value || runs.value)
    return s.value.watched ? `${s.value.helper} sees your screen` : "Your screen is shared";
  return `Share your screen with ${s.value.helper}`;
});

const preview = ref<HTMLVideoElement>();
watchEffect(() => {
  if (preview.value) preview.value.srcObject = visit.share.stream.value ?? null;
});

function speak() {
  const words = text.value.trim();
  if (words) visit.send({ say: words });
  text.value = "";
}
function consent(capability: string, allow: boolean) {
  visit.send({ consent: { question: s.value?.wants_question ?? 0, capability, allow } });
}
function stop() {
  visit.share.stop();
  visit.send("stop");
}
</script>

<template>
  <div class="flex flex-col gap-4">
    <h2 class="text-[1.25rem]!" data-testid="visited-heading">{{ heading }}</h2>
    <p v-if="visit.over.value" role="status">{{ visit.over.value }}</p>
    <template v-else-if="s">
      <p v-if="visit.lost.value" role="status" class="text-wait">The connection broke off. Trying again …</p>
      <p v-if="!s.helper" class="text-soft">
        Somebody will be with you. You wait here since {{ s.since ? ago(s.since) : "a moment" }}; leave this page open.
      </p>
      <template v-else>
        <div class="flex items-center gap-3">
          <span
            class="flex h-12 w-12 items-center justify-center rounded-full bg-accent font-semibold text-on-accent"
            aria-hidden="true"
            >{{ initials }}</span
          >
          <p>
            <b>{{ s.helper }}</b><template v-if="s.organisation"> of {{ s.organisation }}</template
            ><template v-if="s.reason"
              ><br /><span class="text-soft">{{ s.reason }}</span></template
            >
          </p>
        </div>
        <template v-if="!s.agreed">
          <p>
            They ask to <b>see your screen</b>. You choose which part of it, they cannot click or type, and you can stop
            at any time.
            {{ s.recorded ? "What they see is recorded." : "What they see is not recorded." }}
          </p>
          <div class="flex gap-3">
            <button
              class="button py-2!"
              data-kind="main"
              data-testid="allow"
              @click="visit.send({ answer: { question: s.question, allow: s.asks } })"
            >
              Allow
            </button>
            <button
              class="button py-2!"
              data-testid="refuse"
              @click="visit.send({ answer: { question: s.question, allow: [] } })"
            >
              Refuse
            </button>
          </div>
        </template>
        <template v-else-if="allowed">
          <VisitedUses :helper="s.helper" :wants="s.wants" :uses="s.uses" @answer="consent" />
          <p
            v-if="runs"
            role="status"
            class="border-l-4 px-3 py-2"
            :class="s.watched ? 'border-l-wait bg-waitbg text-wait' : 'border-l-line'"
            data-testid="program-runs"
          >
            {{ s.watched ? `${s.helper} sees your whole screen` : "The program runs, and nobody looks yet"
            }}{{ s.watched && s.recorded ? ", and it is recorded." : "." }}
          </p>
          <div v-else-if="!visit.share.sharing.value" class="flex flex-col gap-2">
            <p>Your browser asks which screen or window it is. Close what is nobody's business first.</p>
            <button class="button self-start py-2!" data-kind="main" data-testid="share" @click="visit.share.start()">
              Choose what to share
            </button>
            <ProblemNote :text="visit.share.error.value" />
          </div>
          <template v-else>
            <p
              role="status"
              class="border-l-4 border-l-wait bg-waitbg px-3 py-2 text-wait"
              data-testid="sharing"
              :data-pictured="visit.share.pictured.value"
            >
              {{ s.watched ? `${s.helper} sees what you share` : "What you share waits to be looked at"
              }}{{ s.recorded ? ", and it is recorded." : "." }}
            </p>
            <p v-if="visit.share.dark.value" role="alert" data-testid="no-picture">
              Your browser gives no picture of what you chose: it may be minimised or covered. Bring it to the front, or
              stop and choose something else.
            </p>
            <button class="button self-start" data-testid="stop-sharing" @click="stop">Stop sharing</button>
          </template>
          <ProgramOffer
            v-if="s.program === 'offered' && visit.onLinux"
            :helper="s.helper"
            :line="visit.line.value"
            @want="visit.send('program')"
          />
          <figure v-if="visit.share.sharing.value && visit.lines.length" class="relative m-0" data-testid="pointed">
            <video ref="preview" class="w-full rounded border border-line" autoplay muted></video>
            <svg class="absolute inset-0 h-full w-full" :viewBox="`0 0 ${visit.share.size[0]} ${visit.share.size[1]}`">
              <polyline
                v-for="(l, i) in visit.lines"
                :key="i"
                :points="l.map((p) => p.join(',')).join(' ')"
                class="fill-none stroke-wait"
                stroke-width="8"
                stroke-linecap="round"
              />
            </svg>
            <figcaption class="text-[0.9rem] text-soft">{{ s.helper }} points at this.</figcaption>
          </figure>
        </template>
      </template>
      <VisitedFiles
        v-if="allowed"
        :pass="pass"
        :helper="s.helper"
        :files="s.files"
        :takes="s.takes_files"
        @refuse="(id) => visit.send({ 'refuse-file': id })"
      />
      <section v-if="s.helper" aria-label="Talk" class="flex flex-col gap-2">
        <ol v-if="visit.said.length" class="flex flex-col gap-1" aria-live="polite" data-testid="visited-said">
          <li v-for="(m, i) in visit.said" :key="i" class="[overflow-wrap:anywhere]">
            <b>{{ m.who || "You" }}</b> {{ m.text }}
          </li>
        </ol>
        <form class="flex gap-2" @submit.prevent="speak">
          <label class="grow"
            ><span class="sr-only">Message</span
            ><input v-model="text" class="field w-full" name="words" maxlength="1000" placeholder="Write to them"
          /></label>
          <button class="button">Send</button>
        </form>
      </section>
      <button class="button self-start" data-testid="leave-visit" @click="visit.send('leave')">End the visit</button>
    </template>
  </div>
</template>
