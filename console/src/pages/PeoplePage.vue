<script setup lang="ts">
import { keepPreviousData, useInfiniteQuery, useMutation, useQueryClient } from "@tanstack/vue-query";
import { computed, reactive, ref } from "vue";
import { useRouter } from "vue-router";
import { api, unwrap } from "../api/client";
import { useFilter } from "../composables/useFilter";
import { useMe } from "../composables/useMe";
import { proven } from "../composables/useProve";
import RoleBoxes from "../features/account/RoleBoxes.vue";
import { ROLES } from "../lib/roles";
import MoreButton from "../ui/MoreButton.vue";
import StateNote from "../ui/StateNote.vue";
import ProblemNote from "../ui/ProblemNote.vue";
import { words } from "../lib/words";

const router = useRouter();
const queries = useQueryClient();
const { may } = useMe();
const { filter, text, narrow, narrowed } = useFilter("q", "role", "standing");

const list = useInfiniteQuery({
  queryKey: ["people", "list", filter],
  initialPageParam: undefined as string | undefined,
  placeholderData: keepPreviousData,
  queryFn: async ({ pageParam }) => {
    const f = filter.value;
    const query = {
      q: f.q || undefined,
      role: f.role || undefined,
      standing: f.standing || undefined,
      after: pageParam,
    };
    return unwrap(await api.GET("/api/v1/people", { params: { query } }));
  },
  getNextPageParam: (page) => page.next ?? undefined,
});
const people = computed(() => list.data.value?.pages.flatMap((p) => p.items) ?? []);

const adding = ref(false);
const form = reactive({ name: "", full_name: "", organisation: "", groups: "", roles: ["technician"] });
const add = useMutation({
  mutationFn: () =>
    proven(async () => {
      const groups = words(form.groups);
      const body = {
        name: form.name.trim(),
        full_name: form.full_name,
        organisation: form.organisation,
        groups,
        roles: form.roles,
        invite: false,
      };
      return unwrap(await api.POST("/api/v1/people", { body }));
    }),
  onSuccess: (made) => {
    void queries.invalidateQueries({ queryKey: ["people"] });
    void router.push(`/people/${made.person.name}`);
  },
});
</script>

<template>
  <div class="flex flex-wrap items-baseline gap-x-4">
    <h1>
      <template v-if="narrowed && list.data.value"
        >{{ list.hasNextPage.value ? "More than " : "" }}{{ people.length }}
        {{ people.length === 1 ? "person is" : "people are" }} found.</template
      ><template v-else>Who there is, and how they sign in.</template>
    </h1>
    <button
      v-if="may('manage-people') && !adding"
      class="button ml-auto"
      data-kind="main"
      data-testid="add-person"
      @click="adding = true"
    >
      Add somebody
    </button>
  </div>
  <form v-if="adding" class="sheet mt-4 grid max-w-4xl grid-cols-2 gap-3 px-4 py-3.5" @submit.prevent="add.mutate()">
    <label
      ><span class="label">Name for signing in</span
      ><input
        v-model="form.name"
        class="field mono w-full"
        name="new-name"
        required
        maxlength="64"
        pattern="[a-z0-9][a-z0-9._\-]*"
        v-focus
    /></label>
    <label
      ><span class="label">Name as people write it</span
      ><input v-model="form.full_name" class="field w-full" name="new-full-name" maxlength="120"
    /></label>
    <label
      ><span class="label">Home organisation</span
      ><input v-model="form.organisation" class="field w-full" name="new-organisation" maxlength="120"
    /></label>
    <label
      ><span class="label">Groups</span
      ><input v-model="form.groups" class="field mono w-full" name="new-groups" placeholder="night-operators"
    /></label>
    <RoleBoxes v-model="form.roles" class="col-span-2" />
    <span class="col-span-2 flex gap-3">
      <button class="button" data-kind="main" :disabled="add.isPending.value">Add</button>
      <button type="button" class="button" @click="adding = false">Cancel</button>
    </span>
    <ProblemNote class="col-span-2" :text="add.error.value?.message" />
  </form>
  <div class="mb-3 mt-4 flex flex-wrap items-center gap-3">
    <label class="w-80"
      ><span class="sr-only">Find people by a few letters</span
      ><input
        v-model="text"
        type="search"
        class="field w-full"
        placeholder="A few letters of name, organisation or group"
        data-testid="find-people"
        @input="narrow({ q: text.trim() })"
    /></label>
    <label
      ><span class="sr-only">Role</span
      ><select
        class="field"
        :value="filter.role"
        @change="narrow({ role: ($event.target as HTMLSelectElement).value })"
      >
        <option value="">Any role</option>
        <option v-for="r in ROLES" :key="r" :value="r">{{ r }}</option>
      </select></label
    >
    <label
      ><span class="sr-only">Account</span
      ><select
        class="field"
        :value="filter.standing"
        @change="narrow({ standing: ($event.target as HTMLSelectElement).value })"
      >
        <option value="">Any account</option>
        <option value="good">Good</option>
        <option value="not-good">Suspended, ended or not begun</option>
      </select></label
    >
  </div>
  <div v-if="people.length" class="sheet overflow-x-auto">
    <table class="w-full">
      <thead>
        <tr class="border-b border-line">
          <th class="px-4 py-1.5">Person</th>
          <th class="px-4">Organisation</th>
          <th class="px-4">Groups</th>
          <th class="px-4">Roles</th>
          <th class="px-4">Signs in with</th>
          <th class="px-4">Account</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="p in people" :key="p.name" class="border-b border-line last:border-0" data-testid="person-row">
          <td class="px-4 py-1.5">
            <RouterLink :to="`/people/${p.name}`" class="font-semibold">{{ p.full_name || p.name }}</RouterLink>
            <span v-if="p.full_name" class="mono ml-2 text-soft">{{ p.name }}</span>
          </td>
          <td class="px-4">{{ p.organisation }}</td>
          <td class="mono px-4">{{ p.groups.join(" ") }}</td>
          <td class="px-4">{{ p.roles.join(", ") }}</td>
          <td class="px-4">
            {{
              [...p.factors, ...(p.keys ? [p.keys === 1 ? "1 SSH key" : `${p.keys} SSH keys`] : [])].join(", ") ||
              "nothing yet"
            }}
          </td>
          <td class="px-4" :class="{ 'text-soft': p.standing === 'good' }">{{ p.standing }}</td>
        </tr>
      </tbody>
    </table>
  </div>
  <StateNote
    v-else
    :loading="list.isPending.value"
    :error="list.error.value"
    empty="Nobody has these letters."
    @retry="list.refetch()"
  />
  <MoreButton
    v-if="list.hasNextPage.value"
    :loading="list.isFetchingNextPage.value"
    :shown="people.length"
    noun="people"
    @more="list.fetchNextPage()"
  />
</template>
