<template>
  <main class="mx-auto max-w-lg px-5 py-24">
    <h1>There is no such page.</h1>
    <p class="mt-3 text-soft">The address may be mistyped, or what it named is gone.</p>
    <p class="mt-4"><RouterLink to="/">Go to the beginning</RouterLink></p>
  </main>
</template>
