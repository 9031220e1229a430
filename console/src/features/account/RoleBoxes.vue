<script setup lang="ts">
import { ROLES } from "../../lib/roles";

/** The roles of somebody, to be ticked. */
const roles = defineModel<string[]>({ required: true });
</script>

<template>
  <fieldset>
    <legend class="label">Roles in Aerie</legend>
    <label v-for="r in ROLES" :key="r" class="mr-4 inline-flex items-center gap-1.5"
      ><input v-model="roles" type="checkbox" :value="r" />{{ r }}</label
    >
  </fieldset>
</template>
