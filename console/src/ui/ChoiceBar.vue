<script setup lang="ts">
/** One of a few, side by side: radio buttons that look like one bar. */
defineProps<{ legend: string; name: string; choices: readonly (readonly [string, string])[]; chosen: string }>();
defineEmits<{ choose: [value: string] }>();
</script>

<template>
  <fieldset class="flex flex-wrap gap-y-1 print:hidden">
    <legend class="sr-only">{{ legend }}</legend>
    <label
      v-for="[value, words] in choices"
      :key="value"
      class="button -ml-px cursor-pointer rounded-none! first:rounded-l-md! last:rounded-r-md! has-[:checked]:bg-open has-[:checked]:font-bold has-[:focus-visible]:outline-2 has-[:focus-visible]:outline-accent"
    >
      <input type="radio" :name="name" class="sr-only" :checked="chosen === value" @change="$emit('choose', value)" />{{
        words
      }}
    </label>
  </fieldset>
</template>
