<script setup lang="ts">
import type { Evidence } from '../api'
import SqlText from './SqlText.vue'

/** What a target shows of a step. */
defineProps<{ evidence: Evidence }>()

function wrong(evidence: Evidence, line: string) {
  return line.includes('INVALID') || evidence.wrong.some((w) => w.startsWith(line))
}
</script>

<template>
  <div class="stack evidence">
    <template v-if="evidence.sql">
      <p>
        Statement {{ evidence.statement }} of {{ evidence.of }}, in line {{ evidence.line }}, began, and nothing says
        how it ended:
      </p>
      <SqlText :text="evidence.sql" />
    </template>
    <p class="soft small">What the target shows, checked just now, reading only:</p>
    <ul>
      <li v-for="line in evidence.lines" :key="line" :class="{ bad: wrong(evidence, line) }">{{ line }}</li>
      <li v-if="!evidence.lines.length" class="soft">nothing that could be looked up</li>
    </ul>
    <p v-if="evidence.why">
      <b>{{ evidence.verdict === 'unclear' ? 'That does not decide it:' : `So it is ${evidence.verdict}:` }}</b>
      {{ evidence.why }}.
    </p>
  </div>
</template>

<style scoped>
.evidence {
  gap: 6px;
}
ul {
  margin: 0;
  padding-left: 1.4rem;
  max-height: 30vh;
  overflow: auto;
}
li {
  overflow-wrap: anywhere;
}
</style>
