<script setup lang="ts">
import { computed } from 'vue'
import { RouterLink } from 'vue-router'

import type { EnvironmentStatus, Trouble } from '../api'
import { checkTitles } from '../labels'
import CommandLine from './CommandLine.vue'

const props = defineProps<{ environment: EnvironmentStatus; trouble: Trouble; named?: boolean }>()

/** The last thing to do is often a command; it is shown to copy. */
const next = computed(() => {
  const at = props.trouble.next.lastIndexOf(': vorrang ')
  const whole = props.trouble.next.startsWith('vorrang ')
  if (at < 0 || whole) return { words: props.trouble.next, command: '' }
  return { words: props.trouble.next.slice(0, at + 1), command: props.trouble.next.slice(at + 2) }
})
</script>

<template>
  <div class="trouble" role="alert">
    <i class="pi pi-exclamation-triangle" aria-hidden="true" />
    <div class="grow">
      <p>
        <RouterLink v-if="named" :to="`/lanes/${environment.lane}/${environment.environment}`" class="place">
          {{ environment.lane }} / {{ environment.environment }}
        </RouterLink>
        <strong class="kind">{{ checkTitles[trouble.kind] ?? trouble.kind }}</strong>
        {{ trouble.message }}
      </p>
      <p class="small next">→ {{ next.words }} <CommandLine v-if="next.command" :command="next.command" /></p>
    </div>
    <slot />
  </div>
</template>

<style scoped>
.trouble { display: flex; gap: 10px; align-items: flex-start; padding: 9px 12px; background: var(--bad-wash); border-left: 4px solid var(--bad); border-radius: var(--round); overflow-wrap: anywhere; }
.pi { color: var(--bad); margin-top: 3px; }
.place { font-weight: 600; margin-right: 8px; }
.kind { color: var(--bad); margin-right: 4px; }
.kind::after { content: ':'; }
.next { margin-top: 2px; }
</style>
