<script setup lang="ts">
import type { Invitation } from "../../api/client";

/** What came of an invitation: a link to hand over, a mail, or a proposal to which a second administrator must agree. */
defineProps<{ invitation: Invitation; name?: string }>();
</script>

<template>
  <div class="mt-3 border-l-4 border-l-accent bg-sheet px-3 py-2" role="status" data-testid="invited">
    <template v-if="invitation.proposal">
      {{ invitation.proposal.sentence }} A second administrator must agree. See
      <RouterLink to="/requests">Requests</RouterLink>.
    </template>
    <template v-else-if="invitation.mailed">
      The invitation was mailed to {{ name ?? invitation.person }}. The link works once, until
      {{ invitation.expires.slice(0, 16).replace("T", " ") }} UTC.
    </template>
    <template v-else>
      Hand this link to {{ name ?? invitation.person }}. It works once, until
      {{ invitation.expires.slice(0, 16).replace("T", " ") }} UTC.
      <code class="mt-1 block break-all" data-testid="invitation">{{ invitation.link }}</code>
    </template>
  </div>
</template>
