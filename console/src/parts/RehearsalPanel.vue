<script setup lang="ts">
import Button from 'primevue/button'
import { ref, shallowRef } from 'vue'
import { api, problemOf, result, type Problem, type Rehearsed } from '../api'
import { plural, wayBackTitles } from '../labels'
import FailureNote from './FailureNote.vue'
import ProblemNote from './ProblemNote.vue'
import SchemaDifferences from './SchemaDifferences.vue'

const props = defineProps<{ lane: string; environment: string }>()

const busy = ref(false)
const problem = shallowRef<Problem>()
const rehearsed = shallowRef<Rehearsed>()

async function rehearse() {
  busy.value = true
  problem.value = rehearsed.value = undefined
  try {
    rehearsed.value = await result(api.POST('/api/v1/lanes/{lane}/environments/{environment}/rehearsals', { params: { path: { ...props } }, body: {} }))
  } catch (error) {
    problem.value = problemOf(error)
  } finally {
    busy.value = false
  }
}

const wrong = ['incomplete', 'failed']
function ms(n?: number) {
  return n ? `${n} ms` : ''
}
</script>

<template>
  <div class="panel stack">
    <div class="row">
      <span class="grow small soft">Try all of it on a copy of the schema, without rows: forward, back, and forward again. {{ environment }} is only read.</span>
      <Button label="Rehearse" icon="pi pi-replay" size="small" severity="secondary" outlined :loading="busy" @click="rehearse" />
    </div>
    <ProblemNote v-if="problem" :problem="problem" />
    <div v-if="rehearsed" class="stack" role="status">
      <p>
        <b :class="rehearsed.result.passed ? 'good' : 'bad'">{{ rehearsed.result.passed ? 'The rehearsal passed' : 'The rehearsal did not pass' }}</b>
        <template v-if="rehearsed.result.why">: {{ rehearsed.result.why }}</template>
      </p>
      <div class="wide">
        <table>
          <thead><tr><th>Step</th><th>Forward</th><th>Way back</th><th>took</th><th>Again</th></tr></thead>
          <tbody>
            <tr v-for="s in rehearsed.result.steps" :key="s.number">
              <td><b>{{ s.number }}</b> {{ s.slug.replaceAll('-', ' ') }}</td>
              <td>{{ ms(s.forward_ms) }}</td>
              <td :class="{ bad: wrong.includes(s.way_back), good: s.way_back === 'complete', warn: s.way_back === 'missing' }">{{ wayBackTitles[s.way_back] }}</td>
              <td class="soft">{{ ms(s.back_ms) }}</td>
              <td>{{ ms(s.again_ms) }}</td>
            </tr>
          </tbody>
        </table>
      </div>
      <FailureNote v-if="rehearsed.result.failure" :failure="rehearsed.result.failure" />
      <template v-for="s in rehearsed.result.steps" :key="s.number">
        <div v-if="s.differences?.length">
          <p class="small">The way back of step {{ s.number }} leaves {{ plural(s.differences.length, 'object') }} otherwise than before:</p>
          <SchemaDifferences :differences="s.differences" />
        </div>
      </template>
      <SchemaDifferences v-if="rehearsed.result.differences?.length" :differences="rehearsed.result.differences" />
      <p class="soft small">{{ rehearsed.ways_back }}.</p>
    </div>
  </div>
</template>

<style scoped>
.wide { overflow-x: auto; }
table { border-collapse: collapse; }
th { text-align: left; font-weight: normal; color: var(--ink-soft); font-size: 0.85em; }
td, th { padding: 2px 14px 2px 0; }
</style>
