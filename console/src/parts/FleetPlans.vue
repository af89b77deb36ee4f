<script setup lang="ts">
import type { Preview } from '../api'
import { plural } from '../labels'
import { some } from '../together'

/** Which targets of a fleet have another plan than the one that is shown, or none. */
defineProps<{ plans: NonNullable<Preview['fleet']> }>()
</script>

<template>
  <p v-for="p in plans.slice(1).filter((p) => p.steps > 0 || p.message)" :key="p.targets[0]" class="small warn">
    {{ p.targets.length === 1 ? p.targets[0] : `${plural(p.targets.length, 'target')} (${some(p.targets)})` }}:
    {{ p.message || `${plural(p.steps, 'step')}, another plan than this one` }}
  </p>
</template>
