<script setup lang="ts">
import Button from 'primevue/button'
import Skeleton from 'primevue/skeleton'
import { computed, onMounted, onUnmounted, ref, shallowRef } from 'vue'
import { RouterLink, useRouter } from 'vue-router'

import { api, problemOf, result, type DeployEvent, type Deployment, type Problem } from '../api'
import ActDialog from '../dialogs/ActDialog.vue'
import { useEvents } from '../follow'
import { labels, plural } from '../labels'
import SchemaDifferences from '../parts/SchemaDifferences.vue'
import FailureNote from '../parts/FailureNote.vue'
import GateList from '../parts/GateList.vue'
import ProgressRow from '../parts/ProgressRow.vue'
import ProblemNote from '../parts/ProblemNote.vue'
import StateMark from '../parts/StateMark.vue'
import { moment, took } from '../time'

const props = defineProps<{ id: number }>()
const router = useRouter()

const stopping = ref(false)
async function stop() {
  await result(api.POST('/api/v1/deployments/{id}/cancellation', { params: { path: { id: props.id } } }))
}

const deployment = shallowRef<Deployment>()
const problem = ref<Problem>()
async function load() {
  try {
    deployment.value = await result(api.GET('/api/v1/deployments/{id}', { params: { path: { id: props.id } } }))
  } catch (error) {
    problem.value = problemOf(error)
  }
}
onMounted(load)

/** Where the deployment did otherwise than its rehearsal, by step; undefined where no rehearsal is known. */
const unlike = ref<Record<string, string[]>>({})
async function beside() {
  await load()
  try {
    const list = await result(api.GET('/api/v1/deployments/{id}/footprints', { params: { path: { id: props.id } } }))
    for (const f of list.footprints) if (f.rehearsed) unlike.value[f.number] = f.unlike
  } catch {
    // the page stands without it
  }
}
const { events, broken } = useEvents(props.id, beside)

const now = ref(Date.now())
const clock = setInterval(() => (now.value = Date.now()), 500)
onUnmounted(() => clearInterval(clock))

type Line = { number: string; slug: string; state: string; took: string; detail: string; batched?: boolean }
const lines = computed<Line[]>(() => {
  const over = !!deployment.value?.ended_at
  const list = (deployment.value?.steps ?? []).map((s): Line => ({
    number: s.number,
    slug: s.slug,
    state: 'waiting',
    took: '',
    detail: '',
  }))
  const byNumber = new Map(list.map((l) => [l.number, l]))
  for (const e of events.value) {
    const line = byNumber.get(e.step ?? '')
    if (!line) continue
    if (e.kind === 'step-began') {
      line.state = over ? 'interrupted' : 'running'
      line.took = over ? '' : took(now.value - Date.parse(e.at))
    }
    if (e.kind === 'statement') line.detail = `statement ${e.statement} of ${e.of}, line ${e.line}`
    if (e.kind === 'waiting') line.detail = e.message ?? ''
    if (e.kind === 'batch') Object.assign(line, { detail: rowsOf(e), batched: true })
    if (e.kind === 'step-ready')
      Object.assign(line, { state: 'ran', took: took(e.duration_ms ?? 0), detail: 'commits with the rest' })
    if (e.kind === 'step-done')
      Object.assign(line, {
        state: e.direction === 'back' ? 'rolled back' : 'applied',
        took: took(e.duration_ms ?? 0),
        detail: line.batched ? line.detail : '',
      })
    if (e.kind === 'step-failed') Object.assign(line, { state: 'failed', took: took(e.duration_ms ?? 0) })
  }
  return list
})
function rowsOf(e: DeployEvent) {
  const rest = e.rest ? `, about ${e.rest.toLocaleString('en')} to go` : ''
  return `${(e.rows ?? 0).toLocaleString('en')} rows so far, ${(e.rate ?? 0).toLocaleString('en')} a second${rest}`
}

/** What the steps did to the schema, by step; under no name what they did together. */
const effects = computed(() => {
  const byStep = new Map<string, DeployEvent>()
  for (const e of events.value) if (e.kind === 'effect') byStep.set(e.step ?? '', e)
  return byStep
})
const together = computed(() => effects.value.get(''))
/** What the steps did to their surroundings, by step; under no name what they did together. */
const measured = computed(() => {
  const byStep = new Map<string, string>()
  for (const e of events.value) if (e.kind === 'measured' && e.message) byStep.set(e.step ?? '', e.message)
  return byStep
})
/** Who waits for this deployment now. */
const kept = computed(() => {
  const last = [...events.value]
    .reverse()
    .find((e) => ['blocking', 'step-done', 'step-failed', 'ended'].includes(e.kind))
  return running.value && last?.kind === 'blocking' && last.blockers?.length ? last.message : undefined
})
const open = ref<Record<string, boolean>>({})

const wanted = computed(() => (deployment.value?.direction === 'back' ? 'rolled back' : 'applied'))
const done = computed(() => lines.value.filter((l) => l.state === wanted.value).length)
const telling = ['notice', 'waiting', 'blocking', 'emptied', 'backing-out']
const said = computed(() => events.value.filter((e) => telling.includes(e.kind) || (e.kind === 'ended' && e.message)))
const failure = computed(() => deployment.value?.failure ?? events.value.find((e) => e.kind === 'step-failed')?.failure)
const running = computed(() => deployment.value?.outcome === 'running')
const lasted = computed(() => {
  const d = deployment.value
  return d
    ? took(
        (d.ended_at ? Date.parse(d.ended_at) : Math.max(now.value, Date.parse(d.started_at))) -
          Date.parse(d.started_at),
      )
    : ''
})
</script>

<template>
  <div class="stack">
    <ProblemNote v-if="problem" :problem="problem" />
    <Skeleton v-else-if="!deployment" height="160px" />
    <template v-if="deployment">
      <div class="row">
        <h1>Deployment {{ id }}</h1>
        <StateMark :word="deployment.outcome" />
        <RouterLink :to="`/lanes/${deployment.lane}/${deployment.environment}`"
          >{{ deployment.lane }} / {{ deployment.environment }}</RouterLink
        >
        <RouterLink v-if="deployment.fleet" :to="`/fleet-deployments/${deployment.fleet}`"
          >part of F{{ deployment.fleet }}</RouterLink
        >
        <span class="grow" />
        <Button
          v-if="running"
          :label="labels.stop + '…'"
          icon="pi pi-stop"
          size="small"
          severity="danger"
          outlined
          @click="stopping = true"
        />
        <Button
          :label="`To ${deployment.environment}`"
          size="small"
          severity="secondary"
          outlined
          @click="router.push(`/lanes/${deployment.lane}/${deployment.environment}`)"
        />
      </div>
      <p class="soft">
        <b v-if="deployment.rebuild">Rebuild: </b>{{ plural(deployment.planned, 'step') }} {{ deployment.direction
        }}<template v-if="deployment.release">
          of release <b>{{ deployment.release }}</b></template
        ><template v-if="deployment.whole">, all in one transaction</template
        ><template v-else-if="deployment.on_failure === 'back-out'">, backed out if one fails</template>, started by
        <b>{{ deployment.actor }}</b> at {{ moment(deployment.started_at) }} UTC, {{ running ? 'running for' : 'took' }}
        {{ lasted }}
        <span v-if="broken && running" class="warn"> · the connection broke off; it is taken up again</span>
      </p>
      <FailureNote v-if="failure" :failure="failure" />
      <p v-if="kept" class="panel warn" role="alert">
        <i class="pi pi-exclamation-triangle" aria-hidden="true" /> {{ kept }}
      </p>
      <ProgressRow :done="done" :of="deployment.planned" noun="step" />
      <table class="steps panel">
        <tbody>
          <template v-for="l in lines" :key="l.number">
            <tr :class="{ soft: l.state === 'waiting' }">
              <td class="number">{{ l.number }}</td>
              <td>{{ l.slug.replaceAll('-', ' ') }}</td>
              <td><StateMark :word="l.state" /></td>
              <td class="small soft">{{ l.took }}</td>
              <td class="small soft grow">
                {{ l.detail }}
                <Button
                  v-if="effects.has(l.number)"
                  :icon="open[l.number] ? 'pi pi-chevron-down' : 'pi pi-chevron-right'"
                  :label="
                    plural((effects.get(l.number)?.effect?.length ?? 0) + (effects.get(l.number)?.more ?? 0), 'object')
                  "
                  size="small"
                  text
                  severity="secondary"
                  class="toggle"
                  :aria-expanded="!!open[l.number]"
                  :aria-label="`What step ${l.number} did to the schema`"
                  @click="open[l.number] = !open[l.number]"
                />
              </td>
            </tr>
            <tr v-if="measured.has(l.number)">
              <td />
              <td colspan="4" class="effect small soft">
                {{ measured.get(l.number) }}<template v-if="unlike[l.number]?.length === 0">; as rehearsed</template>
                <p v-for="what in unlike[l.number] ?? []" :key="what" class="warn">
                  <i class="pi pi-exclamation-triangle" aria-hidden="true" /> Otherwise than rehearsed: {{ what }}
                </p>
              </td>
            </tr>
            <tr v-if="open[l.number]">
              <td />
              <td colspan="4" class="effect">
                <SchemaDifferences
                  :differences="effects.get(l.number)?.effect ?? []"
                  :more="effects.get(l.number)?.more"
                />
              </td>
            </tr>
          </template>
        </tbody>
      </table>
      <p v-if="measured.has('')" class="small soft">{{ measured.get('') }}</p>
      <details v-if="together" open>
        <summary>What its steps did to the schema together</summary>
        <SchemaDifferences :differences="together.effect ?? []" :more="together.more" class="panel" />
      </details>
      <section v-if="said.length" class="stack tight">
        <h2>Messages</h2>
        <div class="panel log" tabindex="0">
          <p v-for="e in said" :key="e.seq" class="small">
            <span class="soft mono">{{ moment(e.at).slice(11) }}</span>
            <b v-if="e.step"> step {{ e.step }}</b>
            <span v-if="e.severity" class="soft">{{ e.severity.toLowerCase() }}</span> {{ e.message }}
          </p>
        </div>
      </section>
      <details v-if="deployment.gate?.length">
        <summary>{{ labels.wasClear }}</summary>
        <GateList :checks="deployment.gate" class="panel" />
      </details>
      <ActDialog
        v-model:open="stopping"
        :title="`${labels.stop} ${id}`"
        :act="stop"
        ready
        severity="danger"
        :confirm="`${labels.stop} on ${deployment.environment}`"
      >
        <p>
          The statement that runs on <b>{{ deployment.lane }} / {{ deployment.environment }}</b> is cancelled and its
          step rolled back. The {{ plural(done, 'step') }} before it stay. The same promotion goes on from there later.
        </p>
      </ActDialog>
    </template>
  </div>
</template>

<style scoped>
.steps {
  border-collapse: collapse;
  width: 100%;
  padding: 0;
  border-spacing: 0;
}
.steps td {
  padding: 4px 10px;
  border-bottom: 1px solid var(--line);
  white-space: nowrap;
}
.steps tr:last-child td {
  border-bottom: 0;
}
.number {
  font-weight: 600;
  text-align: right;
  width: 1%;
}
.grow {
  width: 60%;
}
.toggle {
  padding: 0 6px;
}
.steps .effect {
  white-space: normal;
}
.tight {
  gap: 6px;
}
.log {
  max-height: 30vh;
  overflow: auto;
}
details summary {
  cursor: pointer;
  color: var(--ink-soft);
}
details .panel {
  margin-top: 8px;
}
</style>
