<script setup lang="ts">
import type { Problem } from '../api'
import RemedyList from './RemedyList.vue'

defineProps<{ problem: Problem }>()
</script>

<template>
  <div class="problem" role="alert">
    <strong><i class="pi pi-exclamation-triangle" /> {{ problem.title }}</strong>
    <p>{{ problem.detail }}</p>
    <ul v-if="problem.differences?.length">
      <li v-for="line in problem.differences" :key="line">{{ line }}</li>
    </ul>
    <RemedyList v-if="problem.remedies?.length" :remedies="problem.remedies" />
  </div>
</template>

<style scoped>
.problem {
  border-left: 4px solid var(--bad);
  background: var(--bad-wash);
  padding: 8px 12px;
  border-radius: var(--round);
  overflow-wrap: anywhere;
}
ul {
  margin: 4px 0;
  padding-left: 1.4rem;
  max-height: 30vh;
  overflow: auto;
}
strong {
  color: var(--bad);
}
</style>
