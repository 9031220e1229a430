<template>
  <svg viewBox="0 0 24 24" aria-hidden="true">
    <g fill="none" stroke="currentColor" stroke-width="2.4" stroke-linecap="round">
      <path d="M3 20h18M5.5 15.2h13M8 10.4h8" />
    </g>
    <circle cx="12" cy="5" r="2.3" class="fill-accent" />
  </svg>
</template>
