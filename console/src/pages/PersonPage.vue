<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from "@tanstack/vue-query";
import { computed, reactive, ref } from "vue";
import { useRouter } from "vue-router";
import { api, unwrap, type PersonChange } from "../api/client";
import { useMe } from "../composables/useMe";
import { useNow } from "../composables/useNow";
import { proven } from "../composables/useProve";
import RoleBoxes from "../features/account/RoleBoxes.vue";
import KeyTable from "../features/account/KeyTable.vue";
import StopButton from "../features/live/StopButton.vue";
import SessionTable from "../features/sessions/SessionTable.vue";
import { inPath } from "../lib/keys";
import { ago } from "../lib/time";
import StateNote from "../ui/StateNote.vue";
import InvitationLink from "../features/proposals/InvitationLink.vue";
import ProblemNote from "../ui/ProblemNote.vue";
import { words } from "../lib/words";

const props = defineProps<{ name: string }>();
const router = useRouter();
const queries = useQueryClient();
const { data: me, may, readsAll, administers } = useMe();
const { zone } = useNow();
const path = computed(() => ({ path: { name: props.name } }));
const person = useQuery({
  queryKey: ["people", "one", () => props.name],
  queryFn: async () => unwrap(await api.GET("/api/v1/people/{name}", { params: path.value })),
});
const sessions = useQuery({
  queryKey: ["sessions", "of", () => props.name],
  enabled: readsAll,
  queryFn: async () =>
    unwrap(await api.GET("/api/v1/sessions", { params: { query: { person: props.name, limit: 8 } } })).items,
});
const d = computed(() => person.data.value);
const manages = computed(() => may("manage-people") && me.value?.person !== props.name);
const shown = computed(() => d.value?.person.full_name || props.name);
const refresh = () => queries.invalidateQueries({ queryKey: ["people"] });

const editing = ref(false);
const form = reactive({
  full_name: "",
  organisation: "",
  groups: "",
  roles: [] as string[],
  valid_from: "",
  valid_until: "",
});
function edit() {
  const v = d.value!;
  Object.assign(form, {
    full_name: v.person.full_name,
    organisation: v.person.organisation,
    groups: v.person.groups.join(" "),
    roles: [...v.person.roles],
    valid_from: v.valid_from ?? "",
    valid_until: v.valid_until ?? "",
  });
  editing.value = true;
}
const change = useMutation({
  mutationFn: (body: PersonChange) =>
    proven(async () => unwrap(await api.PATCH("/api/v1/people/{name}", { params: path.value, body }))),
  onSuccess: () => {
    editing.value = false;
    void refresh();
  },
});
const save = () => change.mutate({ ...form, groups: words(form.groups) });
const invite = useMutation({
  mutationFn: () =>
    proven(async () => unwrap(await api.POST("/api/v1/people/{name}/invitation", { params: path.value }))),
  onSuccess: refresh,
});
const temporary = useMutation({
  mutationFn: () =>
    proven(async () => unwrap(await api.POST("/api/v1/people/{name}/temporary-code", { params: path.value }))),
});
const signOut = useMutation({
  mutationFn: () =>
    proven(async () => unwrap(await api.POST("/api/v1/people/{name}/sign-out", { params: path.value }))),
  onSuccess: refresh,
});
const takeFactor = useMutation({
  mutationFn: (factor: string) =>
    proven(async () =>
      unwrap(
        await api.DELETE("/api/v1/people/{name}/factors/{factor}", { params: { path: { name: props.name, factor } } }),
      ),
    ),
  onSuccess: refresh,
});
const takeKey = useMutation({
  mutationFn: (print: string) =>
    proven(async () => {
      const params = { path: { name: props.name, fingerprint: inPath(print) } };
      return unwrap(await api.DELETE("/api/v1/people/{name}/keys/{fingerprint}", { params }));
    }),
  onSuccess: refresh,
});
/** What they have to sign in with besides keys: word of the call that takes it away, and what it is. */
const kept = computed(() => {
  const has = (f: string) => d.value?.person.factors.includes(f) ?? false;
  const codes = d.value?.recovery_codes ?? 0;
  const all: [boolean, string, string][] = [
    [has("password"), "password", "Password"],
    [has("code"), "code", "Codes of an authenticator app"],
    [codes > 0, "recovery-codes", codes === 1 ? "1 recovery code" : `${codes} recovery codes`],
  ];
  return all.filter(([there]) => there).map(([, factor, what]) => ({ factor, what }));
});
const removing = ref(false);
const remove = useMutation({
  mutationFn: () => proven(async () => unwrap(await api.DELETE("/api/v1/people/{name}", { params: path.value }))),
  onSuccess: () => {
    void refresh();
    void router.push("/people");
  },
});
const error = computed(
  () =>
    [change, invite, temporary, signOut, takeFactor, takeKey, remove].map((m) => m.error.value).find(Boolean) ?? null,
);
</script>

<template>
  <template v-if="d">
    <p class="text-soft">
      <RouterLink to="/people">People</RouterLink> · <span class="mono">{{ name }}</span>
    </p>
    <h1 class="mt-1">{{ d.sentence }}</h1>
    <div v-if="manages" class="mt-3 flex flex-wrap gap-3">
      <button class="button" data-testid="edit" @click="edit">Change</button>
      <button class="button" data-testid="invite" @click="invite.mutate()">
        {{ d.person.factors.length ? "Invite again" : "Invite" }}
      </button>
      <button class="button" data-testid="temporary-code" @click="temporary.mutate()">Give a temporary code</button>
      <button class="button" @click="signOut.mutate()">Sign out everywhere</button>
      <StopButton v-if="administers" :which="{ person: name }" name="their sessions" />
      <button class="button" data-testid="suspend" @click="change.mutate({ suspended: !d.suspended })">
        {{ d.suspended ? "Give the account back" : "Suspend" }}
      </button>
      <button v-if="!removing" class="button" @click="removing = true">Remove…</button>
      <span v-else class="flex items-baseline gap-3 border-l-4 border-l-wait bg-waitbg px-3">
        Everything {{ shown }} signs in with goes; the history stays.
        <button class="button" data-testid="remove" @click="remove.mutate()">Remove {{ name }}</button>
        <button class="button" @click="removing = false">Keep</button>
      </span>
    </div>
    <InvitationLink v-if="invite.data.value" :invitation="invite.data.value" :name="shown" />
    <div v-if="temporary.data.value" class="mt-3 border-l-4 border-l-accent bg-sheet px-3 py-2" role="status">
      Read this out to {{ shown }}: it does once in place of their second factor.
      <code class="mt-1 block text-[1.15rem]" data-testid="shown-code">{{ temporary.data.value.codes[0] }}</code>
    </div>
    <ProblemNote class="mt-3" :text="error?.message" />
    <form v-if="editing" class="sheet mt-4 grid max-w-4xl grid-cols-2 gap-3 px-4 py-3.5" @submit.prevent="save">
      <label
        ><span class="label">Name as people write it</span
        ><input v-model="form.full_name" class="field w-full" name="full-name" maxlength="120"
      /></label>
      <label
        ><span class="label">Home organisation</span
        ><input v-model="form.organisation" class="field w-full" name="organisation" maxlength="120"
      /></label>
      <label class="col-span-2"
        ><span class="label">Groups</span><input v-model="form.groups" class="field mono w-full" name="groups"
      /></label>
      <RoleBoxes v-model="form.roles" class="col-span-2" />
      <label
        ><span class="label">First day</span
        ><input v-model="form.valid_from" class="field w-full" type="date" name="valid-from"
      /></label>
      <label
        ><span class="label">Last day</span
        ><input v-model="form.valid_until" class="field w-full" type="date" name="valid-until"
      /></label>
      <span class="col-span-2 flex gap-3">
        <button class="button" data-kind="main" :disabled="change.isPending.value">Save</button>
        <button type="button" class="button" @click="editing = false">Cancel</button>
      </span>
    </form>
    <div class="mt-4 grid items-start gap-4 lg:grid-cols-2">
      <section class="sheet px-4 py-3.5" aria-label="About">
        <dl class="grid grid-cols-[9rem_1fr] gap-y-1">
          <dt class="text-soft">Organisation</dt>
          <dd>{{ d.person.organisation || "none" }}</dd>
          <dt class="text-soft">Roles</dt>
          <dd>
            {{ d.person.roles.join(", ") || "none" }}
            <span v-for="(s, role) in d.scopes" :key="role" class="mono block text-soft"
              >{{ role }}: people {{ s.people }}, machines {{ s.machines }}</span
            >
          </dd>
          <dt class="text-soft">Groups</dt>
          <dd class="mono">{{ d.all_groups.join(" ") || "none" }}</dd>
          <dt class="text-soft">Account</dt>
          <dd>
            {{ d.person.standing }}{{ d.valid_from ? `, from ${d.valid_from}` : ""
            }}{{ d.valid_until ? `, until ${d.valid_until}` : "" }}
          </dd>
          <dt class="text-soft">Can reach</dt>
          <dd>
            <RouterLink :to="{ path: '/reach', query: { person: name } }"
              >{{ d.reach }} {{ d.reach === 1 ? "machine" : "machines" }}</RouterLink
            >
          </dd>
          <template v-if="readsAll">
            <dt class="text-soft">Sessions</dt>
            <dd><RouterLink :to="{ path: '/sessions', query: { person: name } }">all of them</RouterLink></dd>
            <dt class="text-soft">Accesses</dt>
            <dd>
              <RouterLink :to="{ path: '/accesses', query: { person: name, by: 'machine' } }"
                >through Aerie and around it</RouterLink
              >
            </dd>
            <dt class="text-soft">Findings</dt>
            <dd>
              <RouterLink :to="{ path: '/findings', query: { q: name } }">those that name them</RouterLink>
            </dd>
          </template>
        </dl>
      </section>
      <section class="sheet px-4 py-3.5" aria-labelledby="factors">
        <h2 id="factors" class="mb-2">Factors</h2>
        <ul class="divide-y divide-line border-y border-line">
          <li v-for="{ factor, what } in kept" :key="factor" class="flex items-baseline gap-x-4 py-1.5">
            <span>{{ what }}</span>
            <button
              v-if="manages"
              class="button ml-auto"
              :aria-label="`Take away: ${what}`"
              @click="takeFactor.mutate(factor)"
            >
              Take away
            </button>
          </li>
          <li v-for="k in d.passkeys" :key="k.id" class="flex flex-wrap items-baseline gap-x-4 py-1.5">
            <span>{{ k.kind === "passkey" ? "Passkey" : "Security key" }} “{{ k.label }}”</span>
            <span class="ml-auto text-soft">{{ k.last_used ? `used ${ago(k.last_used)}` : "never used" }}</span>
            <button v-if="manages" class="button" :aria-label="`Take away ${k.label}`" @click="takeFactor.mutate(k.id)">
              Take away
            </button>
          </li>
          <li v-if="!d.person.factors.length" class="py-1.5 text-soft">Nothing is enrolled.</li>
        </ul>
        <h2 class="mb-2 mt-5">SSH keys</h2>
        <KeyTable :keys="d.ssh_keys" :removable="manages" @remove="takeKey.mutate($event)" />
        <template v-if="d.devices.length">
          <h2 class="mb-2 mt-5">Signed in</h2>
          <ul class="divide-y divide-line border-y border-line">
            <li v-for="s in d.devices" :key="s.id" class="flex flex-wrap items-baseline gap-x-4 py-1.5">
              <span>{{ s.name || s.kind }}</span>
              <span class="text-soft">with {{ s.factors.join(", ") }}</span>
              <span class="ml-auto text-soft">{{ ago(s.last_used) }} from {{ s.last_from }}</span>
            </li>
          </ul>
        </template>
      </section>
    </div>
    <section v-if="sessions.data.value?.length" class="mt-5" aria-labelledby="sessions">
      <h2 id="sessions" class="mb-2">Last sessions</h2>
      <SessionTable :sessions="sessions.data.value" :zone="zone" :can-end="false" />
    </section>
  </template>
  <StateNote v-else :loading="person.isPending.value" :error="person.error.value" @retry="person.refetch()" />
</template>
