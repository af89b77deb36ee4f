<script setup lang="ts">
import { RouterLink } from 'vue-router'

import type { EnvironmentStatus, Trouble } from '../api'
import { checkTitles } from '../labels'
import RemedyList from './RemedyList.vue'

defineProps<{ environment: EnvironmentStatus; trouble: Trouble; named?: boolean }>()
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
      <RemedyList :remedies="trouble.remedies" />
    </div>
    <slot />
  </div>
</template>

<style scoped>
.trouble {
  display: flex;
  gap: 10px;
  align-items: flex-start;
  padding: 9px 12px;
  background: var(--bad-wash);
  border-left: 4px solid var(--bad);
  border-radius: var(--round);
  overflow-wrap: anywhere;
}
.pi {
  color: var(--bad);
  margin-top: 3px;
}
.place {
  font-weight: 600;
  margin-right: 8px;
}
.kind {
  color: var(--bad);
  margin-right: 4px;
}
.kind::after {
  content: ':';
}
</style>
