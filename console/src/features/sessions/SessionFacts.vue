<script setup lang="ts">
import type { Session } from "../../api/client";
import { dayAndClock } from "../../lib/time";

/** What is known of a session besides what happened in it. */
defineProps<{ session: Session; zone: string }>();
</script>

<template>
  <dl class="grid grid-cols-[6.5rem_1fr] gap-y-1 [&>dt]:text-soft">
    <dt>Allowed by</dt>
    <dd>{{ session.rule }}, rules version {{ session.policy_version }}, line {{ session.rule_line }}</dd>
    <dt>Proved</dt>
    <dd>{{ session.factors.join(", ") }}</dd>
    <dt>Account</dt>
    <dd>
      <code>{{ session.account }}</code><template v-if="!session.uses.includes('view')"
        >, certificate for 2 min</template
      >
    </dd>
    <dt>From</dt>
    <dd>
      <code>{{ session.source }}</code>
    </dd>
    <dt>Began</dt>
    <dd>{{ dayAndClock(session.began, zone) }}</dd>
    <dt>{{ session.ended ? "Ended" : "Ends by" }}</dt>
    <dd v-if="session.ended">{{ session.end_reason }}</dd>
    <dd v-else>{{ session.ends_by ? dayAndClock(session.ends_by, zone) : "no limit" }}</dd>
  </dl>
</template>
