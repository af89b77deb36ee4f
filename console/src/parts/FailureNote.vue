<script setup lang="ts">
import type { Failure } from '../api'

defineProps<{ failure: Failure }>()

// A server's code as people know it, as in the client: SQLSTATE 42P07, error 1050, SQLITE_BUSY.
function code(of: string) {
  if (of.length === 5) return `SQLSTATE ${of}`
  return /^\d+$/.test(of) ? `error ${of}` : of
}

function under(source: string, caret: number) {
  return (
    [...source]
      .slice(0, caret - 1)
      .map((c) => (c === '\t' ? '\t' : ' '))
      .join('') + '^'
  )
}
</script>

<template>
  <div class="failure stack" role="alert">
    <p>
      <i class="pi pi-times" aria-hidden="true" /> <strong>{{ failure.message }}</strong>
      <span v-if="failure.sqlstate" class="soft small">{{ code(failure.sqlstate) }}</span>
    </p>
    <p v-if="failure.file">
      <code>{{ failure.file }}:{{ failure.line }}:{{ failure.column }}</code>
    </p>
    <pre v-if="failure.source" tabindex="0">{{ failure.source }}
<span class="bad">{{ under(failure.source, failure.caret ?? 1) }}</span></pre>
    <p v-if="failure.detail"><span class="soft">detail</span> {{ failure.detail }}</p>
    <p v-if="failure.hint"><span class="soft">hint</span> {{ failure.hint }}</p>
    <p v-if="failure.where"><span class="soft">where</span> {{ failure.where }}</p>
    <p v-if="failure.left"><span class="soft">left behind</span> {{ failure.left }}</p>
  </div>
</template>

<style scoped>
.failure {
  gap: 6px;
  border-left: 4px solid var(--bad);
  background: var(--bad-wash);
  border-radius: var(--round);
  padding: 10px 14px;
  overflow-wrap: anywhere;
}
.failure > p:first-child {
  color: var(--bad);
}
pre {
  background: var(--sunken);
  border-radius: 4px;
  padding: 6px 10px;
  overflow: auto;
}
</style>
