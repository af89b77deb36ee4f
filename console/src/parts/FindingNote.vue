<script setup lang="ts">
import type { Finding } from '../api'
import { severityTitles } from '../labels'

defineProps<{ finding: Finding; place?: boolean }>()

const icons = { high: 'pi-exclamation-circle', medium: 'pi-exclamation-triangle', low: 'pi-info-circle' }
</script>

<template>
  <div class="finding small" :class="finding.accepted ? 'accepted' : finding.severity" role="note">
    <p class="row">
      <i class="pi" :class="icons[finding.severity]" aria-hidden="true" />
      <b>{{ severityTitles[finding.severity] }}</b>
      <code>{{ finding.code }}</code>
      <span v-if="place" class="soft">{{ finding.file }}, line {{ finding.line }}</span>
      <span class="grow">{{ finding.message }}</span>
    </p>
    <p v-if="finding.accepted" class="soft">Accepted in the step: {{ finding.accepted }}</p>
    <details v-else>
      <summary>Why, and {{ finding.rewrite ? 'a safe form' : 'what to do' }}</summary>
      <p>{{ finding.why }}</p>
      <pre v-if="finding.rewrite">{{ finding.rewrite }}</pre>
      <p class="soft">
        Change the step, or accept it there: <code>accept: {{ '{' }}{{ finding.code }}: your reason{{ '}' }}</code>
      </p>
    </details>
  </div>
</template>

<style scoped>
.finding {
  border-left: 4px solid var(--line);
  background: var(--surface);
  padding: 4px 10px;
  margin: 4px 0 8px;
  font-family: var(--sans);
  white-space: normal;
  max-width: 90ch;
}
.high {
  border-color: var(--bad);
  background: var(--bad-wash);
}
.medium {
  border-color: var(--warn);
  background: var(--warn-wash);
}
.high .pi,
.high b {
  color: var(--bad);
}
.medium .pi,
.medium b {
  color: var(--warn);
}
summary {
  cursor: pointer;
  color: var(--ink-soft);
}
pre {
  margin: 4px 0;
  padding: 4px 8px;
  background: var(--sunken);
  overflow-x: auto;
}
</style>
