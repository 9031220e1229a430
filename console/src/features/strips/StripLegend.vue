<template>
  <ul class="flex flex-wrap gap-x-5 gap-y-1 text-[0.85rem] text-soft" aria-label="Legend">
    <li class="flex items-center gap-1.5">
      <span class="h-3 w-4 rounded-sm border border-line bg-open"></span>hours the rules allow
    </li>
    <li class="flex items-center gap-1.5"><span class="h-3 w-4 rounded-sm bg-rec"></span>past session</li>
    <li class="flex items-center gap-1.5"><span class="h-3 w-4 rounded-sm bg-live"></span>live</li>
    <li class="flex items-center gap-1.5"><span class="hatched h-3 w-4 rounded-sm"></span>outside the rules</li>
  </ul>
</template>
