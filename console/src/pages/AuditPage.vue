<script setup lang="ts">
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import Skeleton from 'primevue/skeleton'
import { computed, onMounted, ref, shallowRef } from 'vue'

import { api, problemOf, result, type AuditEntry, type Problem } from '../api'
import { operations } from '../labels'
import ProblemNote from '../parts/ProblemNote.vue'
import { moment } from '../time'

/** Who did what, when, from where, and with which result. */
const text = ref('')
const actor = ref('')
const lane = ref('')
const since = ref('')
const acts = shallowRef<AuditEntry[]>()
const problem = ref<Problem>()
const next = ref<number>() // what older ones are asked for by; nothing where there are none
const page = 100

const query = computed(() => ({
  text: text.value.trim(),
  actor: actor.value.trim(),
  lane: lane.value.trim(),
  since: since.value ? new Date(since.value).toISOString() : '',
}))

async function search(before = 0) {
  problem.value = undefined
  try {
    const found = await result(api.GET('/api/v1/audit', { params: { query: { ...query.value, before, limit: page } } }))
    next.value = found.next
    acts.value = before ? [...(acts.value ?? []), ...found.acts] : found.acts
  } catch (error) {
    problem.value = problemOf(error)
  }
}
onMounted(() => search())

/** Downloads everything that is searched for, a line of JSON each. */
async function download() {
  const answer = await fetch('/api/v1/audit?' + new URLSearchParams(query.value), {
    headers: { Accept: 'application/x-ndjson' },
  })
  const link = document.createElement('a')
  link.href = URL.createObjectURL(await answer.blob())
  link.download = 'audit.jsonl'
  link.click()
  URL.revokeObjectURL(link.href)
}

const said = (a: AuditEntry) =>
  Object.entries((a.detail ?? {}) as Record<string, unknown>)
    .map(([key, value]) => `${key}: ${typeof value === 'object' ? JSON.stringify(value) : String(value)}`)
    .join(', ')
</script>

<template>
  <div class="stack">
    <h1>Audit</h1>
    <form class="row" @submit.prevent="search()">
      <InputText v-model="text" name="text" placeholder="words" aria-label="Words" size="small" />
      <InputText v-model="actor" name="actor" placeholder="who" aria-label="Who" size="small" class="short" />
      <InputText v-model="lane" name="lane" placeholder="lane" aria-label="Lane" size="small" class="short" />
      <label class="row small"
        ><span>since</span><InputText v-model="since" type="datetime-local" name="since" size="small"
      /></label>
      <Button type="submit" label="Search" size="small" />
      <span class="grow" />
      <Button
        type="button"
        label="Export as JSON lines"
        icon="pi pi-download"
        size="small"
        text
        severity="secondary"
        @click="download"
      />
    </form>
    <ProblemNote v-if="problem" :problem="problem" />
    <Skeleton v-if="!acts && !problem" height="200px" />
    <p v-if="acts && !acts.length" class="panel soft">Nothing matches.</p>
    <table v-if="acts?.length" class="panel list">
      <thead>
        <tr>
          <th>At (UTC)</th>
          <th>Who</th>
          <th>Did</th>
          <th>Where</th>
          <th>What was asked for</th>
          <th>Result</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="a in acts" :key="a.id">
          <td class="soft small nowrap">{{ moment(a.at) }}</td>
          <td :title="`${a.via}${a.address ? `, from ${a.address}` : ''}`">
            <b>{{ a.actor }}</b> <span class="soft small">by {{ a.via }}</span>
          </td>
          <td :title="a.operation">{{ operations[a.operation] ?? a.operation }}</td>
          <td class="nowrap">{{ [a.lane, a.environment].filter(Boolean).join(' / ') }}</td>
          <td class="small detail">{{ said(a) }}</td>
          <td class="small" :class="{ bad: (a.status ?? 0) >= 400, warn: !a.status }">
            {{ a.result ?? 'not known: the service ended meanwhile' }}
          </td>
        </tr>
      </tbody>
    </table>
    <p v-if="next">
      <Button label="Older" size="small" outlined severity="secondary" @click="search(next)" />
    </p>
  </div>
</template>

<style scoped>
.short {
  width: 130px;
}
.nowrap {
  white-space: nowrap;
}
.detail {
  min-width: 14em;
  max-width: 340px;
  overflow-wrap: anywhere;
  color: var(--ink-soft);
}
</style>
