<script setup lang="ts">
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import { computed, onMounted, onUnmounted, ref, shallowRef } from 'vue'

import { api, problemOf, result, type Problem, type Rehearsed } from '../api'
import { follow } from '../follow'
import { plural, wayBackTitles } from '../labels'
import { moment } from '../time'
import FailureNote from './FailureNote.vue'
import ProblemNote from './ProblemNote.vue'
import SchemaDifferences from './SchemaDifferences.vue'

const props = defineProps<{ lane: string; environment: string }>()

const busy = ref(false)
const rows = ref('')
const problem = shallowRef<Problem>()
/** The newest rehearsal; it may still run. */
const newest = shallowRef<Rehearsed>()
const watched = shallowRef<ReturnType<typeof follow>>()
onUnmounted(() => watched.value?.stop())

async function trying(work: () => Promise<void>) {
  busy.value = true
  problem.value = undefined
  try {
    await work()
  } catch (error) {
    problem.value = problemOf(error)
  } finally {
    busy.value = false
  }
}

function show(rehearsed?: Rehearsed) {
  newest.value = rehearsed
  watched.value?.stop()
  watched.value = undefined
  if (rehearsed?.state !== 'running') return
  const path = { ...props, rehearsal: rehearsed.id }
  watched.value = follow(
    `/api/v1/lanes/${props.lane}/environments/${props.environment}/rehearsals/${rehearsed.id}/events`,
    () =>
      trying(async () =>
        show(
          await result(
            api.GET('/api/v1/lanes/{lane}/environments/{environment}/rehearsals/{rehearsal}', { params: { path } }),
          ),
        ),
      ),
  )
}

/** Whether rows can be copied. */
const samples = ref(false)
async function whatCan() {
  const lane = await result(api.GET('/api/v1/lanes/{lane}', { params: { path: { lane: props.lane } } }))
  const { engines } = await result(api.GET('/api/v1/engines'))
  samples.value = engines.some((e) => e.name === lane.engine && e.samples)
}

onMounted(() =>
  trying(async () => {
    void whatCan().catch(() => undefined) // without rows, then
    const list = await result(
      api.GET('/api/v1/lanes/{lane}/environments/{environment}/rehearsals', {
        params: { path: { ...props }, query: { limit: 1 } },
      }),
    )
    show(list.rehearsals[0])
  }),
)

const rehearse = () =>
  trying(async () => {
    const body = Number(rows.value) > 0 ? { rows: Number(rows.value) } : {}
    show(
      await result(
        api.POST('/api/v1/lanes/{lane}/environments/{environment}/rehearsals', {
          params: { path: { ...props } },
          body,
        }),
      ),
    )
  })

const cancel = () =>
  trying(async () => {
    const path = { ...props, rehearsal: newest.value!.id }
    await result(
      api.POST('/api/v1/lanes/{lane}/environments/{environment}/rehearsals/{rehearsal}/cancellation', {
        params: { path },
      }),
    )
  })

const told = ['round', 'step-began', 'step-done', 'step-failed', 'notice', 'waiting']
/** What happens, a line each; the last lines of a long one. */
const lines = computed(() => {
  const list: { text: string; round: boolean }[] = []
  for (const e of watched.value?.events.value ?? []) {
    if (!told.includes(e.kind)) continue
    const step = `${e.step} ${e.slug?.replaceAll('-', ' ')}`
    if (e.kind === 'step-done')
      list[list.length - 1] = {
        text: `${step}: ${e.direction === 'back' ? 'rolled back' : 'applied'}, ${e.duration_ms} ms`,
        round: false,
      }
    else if (e.kind === 'step-failed') list.push({ text: `${step}: failed`, round: false })
    else if (e.kind === 'step-began') list.push({ text: `${step} …`, round: false })
    else list.push({ text: e.message ?? '', round: e.kind === 'round' })
  }
  return list.slice(-12)
})

const wrong = ['incomplete', 'failed']
function ms(n?: number) {
  return n ? `${n} ms` : ''
}
const verdict = computed(() => {
  const r = newest.value
  if (!r) return ''
  if (r.state !== 'ended') return `The newest rehearsal is ${r.state}`
  return r.result.passed ? 'The rehearsal passed' : 'The rehearsal did not pass'
})
</script>

<template>
  <div class="panel stack">
    <div class="row">
      <span class="grow small soft"
        >Try all of it on a copy: forward, back, and forward again. {{ environment }} is only read.</span
      >
      <label v-if="samples" class="small"
        >with
        <InputText
          v-model="rows"
          name="rows"
          inputmode="numeric"
          size="small"
          placeholder="no"
          class="rows"
          aria-label="rows of each table"
        />
        rows of each table</label
      >
      <Button
        v-if="watched"
        label="Cancel the rehearsal"
        icon="pi pi-times"
        size="small"
        severity="secondary"
        outlined
        @click="cancel"
      />
      <Button
        v-else
        label="Rehearse"
        icon="pi pi-replay"
        size="small"
        severity="secondary"
        outlined
        :loading="busy"
        @click="rehearse"
      />
    </div>
    <ProblemNote v-if="problem" :problem="problem" />
    <div v-if="watched" class="stack" role="status">
      <p>
        <b>Rehearsal {{ newest?.id }} runs</b
        ><span v-if="watched.broken.value" class="warn small"> · the connection is lost; the rehearsal goes on</span>
      </p>
      <ul class="small plain">
        <li v-for="(l, i) in lines" :key="i" :class="{ round: l.round }">{{ l.text }}</li>
      </ul>
    </div>
    <div v-else-if="newest" class="stack" role="status">
      <p>
        <b :class="newest.result.passed ? 'good' : 'bad'">{{ verdict }}</b>
        <template v-if="newest.result.why || newest.message">: {{ newest.result.why || newest.message }}</template>
        <span class="soft small">
          · {{ moment(newest.at) }} UTC, {{ newest.actor
          }}<template v-if="newest.release">, release {{ newest.release }}</template
          ><template v-if="newest.with">, with {{ newest.with }}</template></span
        >
      </p>
      <div v-if="newest.result.steps.length" class="wide">
        <table>
          <thead>
            <tr>
              <th>Step</th>
              <th>Forward</th>
              <th>Way back</th>
              <th>took</th>
              <th>Again</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="s in newest.result.steps" :key="s.number">
              <td>
                <b>{{ s.number }}</b> {{ s.slug.replaceAll('-', ' ') }}
              </td>
              <td>{{ ms(s.forward_ms) }}</td>
              <td
                :class="{
                  bad: wrong.includes(s.way_back),
                  good: s.way_back === 'complete',
                  warn: s.way_back === 'missing',
                }"
              >
                {{ wayBackTitles[s.way_back] }}
              </td>
              <td class="soft">{{ ms(s.back_ms) }}</td>
              <td>{{ ms(s.again_ms) }}</td>
            </tr>
          </tbody>
        </table>
      </div>
      <div v-if="newest.surroundings.length">
        <p class="small">What {{ environment }} would notice:</p>
        <ul class="small">
          <li v-for="line in newest.surroundings" :key="line">{{ line }}</li>
        </ul>
      </div>
      <FailureNote v-if="newest.result.failure" :failure="newest.result.failure" />
      <template v-for="s in newest.result.steps" :key="s.number">
        <div v-if="s.differences?.length">
          <p class="small">
            The way back of step {{ s.number }} leaves {{ plural(s.differences.length, 'object') }} otherwise than
            before:
          </p>
          <SchemaDifferences :differences="s.differences" />
        </div>
        <div v-if="s.rows?.length">
          <p class="small">The way back of step {{ s.number }} leaves other rows than were there:</p>
          <ul class="small bad">
            <li v-for="d in s.rows" :key="d.table">{{ d.message }}</li>
          </ul>
        </div>
      </template>
      <SchemaDifferences v-if="newest.result.differences?.length" :differences="newest.result.differences" />
      <p v-if="newest.ways_back" class="soft small">{{ newest.ways_back }}.</p>
    </div>
  </div>
</template>

<style scoped>
.wide {
  overflow-x: auto;
}
.wide th,
.wide td:not(:first-child) {
  white-space: nowrap;
}
.wide td:first-child {
  min-width: 11em;
}
.row > .grow {
  flex-basis: 15em;
}
.rows {
  width: 5.5em;
}
.plain {
  list-style: none;
  padding: 0;
}
.round {
  font-weight: 600;
  margin-top: 4px;
}
table {
  border-collapse: collapse;
}
th {
  text-align: left;
  font-weight: normal;
  color: var(--ink-soft);
  font-size: 0.85em;
}
td,
th {
  padding: 2px 14px 2px 0;
}
</style>
