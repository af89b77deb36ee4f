<script setup lang="ts">
import AutoComplete from 'primevue/autocomplete'
import Button from 'primevue/button'
import Select from 'primevue/select'
import Skeleton from 'primevue/skeleton'
import { computed, onMounted, ref, shallowRef, watch } from 'vue'
import { RouterLink } from 'vue-router'

import { api, problemOf, result, type Drift, type EnvironmentStatus, type KnownSchema, type SchemaMap } from '../api'
import ReasonDialog from '../dialogs/ReasonDialog.vue'
import { plural } from '../labels'
import { useLook } from '../look'
import { moment } from '../time'
import CommandLine from './CommandLine.vue'
import MapView from './MapView.vue'
import ProblemNote from './ProblemNote.vue'
import SchemaDifferences from './SchemaDifferences.vue'

/** The schema of an environment, at any point of its history, and how it differs from another point or environment. */
const props = defineProps<{ environment: EnvironmentStatus }>()
const emit = defineEmits<{ done: [] }>()
const path = { lane: props.environment.lane, environment: props.environment.environment }
const at = `-lane ${path.lane} -env ${path.environment}`

const known = shallowRef<KnownSchema[]>([])
const older = ref<number>() // what the points before those are asked for by; nothing where there are none
const others = shallowRef<string[]>([])
const drift = shallowRef<Drift>()
const point = ref(0) // a deployment; 0 is now
const since = ref('known')
const marked = computed(() => (since.value === 'nothing' ? '' : since.value))
const deployments = computed(() => known.value.filter((k) => k.deployment))
const points = computed(() => [
  { value: 0, label: 'as it is now' },
  ...deployments.value.map((k) => ({
    value: k.deployment!,
    label: `after deployment ${k.deployment}, ${moment(k.at)} UTC`,
  })),
])
const comparisons = computed(() => [
  { value: 'nothing', label: 'nothing' },
  ...(point.value ? [{ value: 'before', label: 'the state before it' }] : []),
  { value: 'known', label: 'what the last deployment left' },
  ...others.value.map((name) => ({ value: name, label: `${name} as it is now` })),
  ...deployments.value
    .filter((k) => k.deployment !== point.value)
    .map((k) => ({ value: String(k.deployment), label: `after deployment ${k.deployment}` })),
])

const {
  value: drawn,
  problem,
  look,
} = useLook<SchemaMap>(() =>
  result(
    api.GET('/api/v1/lanes/{lane}/environments/{environment}/map', {
      params: { path, query: { deployment: point.value || undefined, since: marked.value || undefined } },
    }),
  ),
)
const readPoints = (before = 0) =>
  result(api.GET('/api/v1/lanes/{lane}/environments/{environment}/schemas', { params: { path, query: { before } } }))
async function readOlder() {
  try {
    const points = await readPoints(older.value)
    known.value = [...known.value, ...points.known]
    older.value = points.next
  } catch (error) {
    problem.value = problemOf(error)
  }
}
async function fetchAll() {
  try {
    const [points, lane, drifted] = await Promise.all([
      readPoints(),
      result(api.GET('/api/v1/lanes/{lane}', { params: { path: { lane: path.lane } } })),
      result(api.GET('/api/v1/lanes/{lane}/environments/{environment}/drift', { params: { path } })),
    ])
    known.value = points.known
    older.value = points.next
    others.value = lane.environments.map((e) => e.environment).filter((name) => name !== path.environment)
    drift.value = drifted
    if (!points.known.length) since.value = 'nothing'
  } catch (error) {
    problem.value = problemOf(error)
    return
  }
  await look()
}
onMounted(fetchAll)
watch(() => props.environment.entries, fetchAll)
watch(point, (now, before) => {
  if (now && !before) since.value = 'before'
  else if (!now && since.value === 'before') since.value = 'known'
})
watch([point, since], look)

const found = ref('')
const picked = ref('')
const suggested = ref<string[]>([])
function suggest(word: string) {
  const part = word.toLowerCase()
  suggested.value = (drawn.value?.map?.tables ?? [])
    .filter((t) => t.name.toLowerCase().includes(part) || t.columns.some((c) => c.name.toLowerCase().includes(part)))
    .map((t) => t.name)
    .slice(0, 30)
}
const table = computed(() => drawn.value?.map?.tables.find((t) => t.name === picked.value))
/** Which steps touched the picked table, the newest first. */
const { value: changes, problem: unseen, look: readChanges } = useLook(() => readEffects())
const readEffects = (before = 0) =>
  result(
    api.GET('/api/v1/lanes/{lane}/environments/{environment}/effects', {
      params: { path, query: { object: picked.value, limit: 50, before } },
    }),
  )
async function readOlderChanges() {
  const shown = changes.value
  try {
    const found = await readEffects(shown?.next)
    if (shown && changes.value === shown) changes.value = { ...found, effects: [...shown.effects, ...found.effects] }
  } catch (error) {
    unseen.value = problemOf(error)
  }
}
watch([picked, () => props.environment.entries], () => picked.value && readChanges())
const touched = computed(() =>
  changes.value?.effects.map((e) => ({
    ...e,
    effect: e.effect.filter((d) => d.name === picked.value || d.of === picked.value),
  })),
)

const acceptOpen = ref(false)
async function accept(reason: string) {
  await result(
    api.POST('/api/v1/lanes/{lane}/environments/{environment}/acceptances', {
      params: { path },
      body: { fingerprint: drift.value?.fingerprint ?? '', reason },
    }),
  )
  await fetchAll()
  emit('done')
}
const draft = computed(() =>
  others.value.includes(since.value)
    ? `vorrang draft -lane ${path.lane} -from ${path.environment} -with ${since.value}`
    : '',
)
const picture = computed(() => {
  const query = new URLSearchParams({
    ...(point.value ? { deployment: String(point.value) } : {}),
    ...(marked.value ? { since: marked.value } : {}),
  })
  return `/api/v1/lanes/${path.lane}/environments/${path.environment}/map.svg?${query}`
})
</script>

<template>
  <div class="stack">
    <div v-if="drift && (drift.unknown || drift.differences.length)" class="panel drift" role="alert">
      <div class="row">
        <p class="grow">
          <b class="warn">{{ drift.unknown ? 'Drift is not known: ' : 'Drift: ' }}</b>
          <template v-if="drift.unknown">{{ drift.unknown }}.</template>
          <template v-else
            >{{ plural(drift.differences.length, 'object') }}
            {{ drift.differences.length === 1 ? 'differs' : 'differ' }} from what {{ drift.from }} left<template
              v-if="drift.since"
            >
              at {{ moment(drift.since) }} UTC</template
            >.</template
          >
        </p>
        <Button label="Accept…" icon="pi pi-check" size="small" outlined @click="acceptOpen = true" />
      </div>
      <SchemaDifferences :differences="drift.differences" />
      <div v-if="drift.differences.length && !drift.unknown" class="small ways">
        <span>Keep it, as a step that others get too:</span><CommandLine :command="`vorrang draft ${at} -drift keep`" />
        <span>Take it back, by a step:</span><CommandLine :command="`vorrang draft ${at} -drift undo`" />
      </div>
    </div>
    <p v-else-if="drift" class="good small">
      <i class="pi pi-check" aria-hidden="true" /> No drift: {{ plural(drift.objects, 'object') }} are as
      {{ drift.from }} left them.
    </p>
    <p v-for="u in drift?.uncovered ?? []" :key="u.what" class="warn small">
      Not compared: {{ plural(u.count, u.what) }} ({{ u.names?.join(', ') }})
    </p>

    <div class="row">
      <label class="row"
        ><span>Schema</span
        ><Select
          v-model="point"
          name="schema-point"
          :options="points"
          option-label="label"
          option-value="value"
          size="small"
      /></label>
      <label class="row"
        ><span>compared with</span
        ><Select
          v-model="since"
          name="schema-since"
          :options="comparisons"
          option-label="label"
          option-value="value"
          size="small"
      /></label>
      <Button
        v-if="older"
        label="Older deployments"
        size="small"
        outlined
        severity="secondary"
        title="Offer the deployments before those in the two lists, too"
        @click="readOlder"
      />
      <AutoComplete
        v-model="found"
        input-id="schema-search"
        :suggestions="suggested"
        placeholder="Find a table or column"
        size="small"
        @complete="suggest($event.query)"
        @option-select="((picked = $event.value), (found = ''))"
      />
      <span class="grow" />
      <a :href="picture" target="_blank" class="small"><i class="pi pi-image" aria-hidden="true" /> as SVG</a>
    </div>
    <ProblemNote v-if="problem" :problem="problem" />
    <Skeleton v-if="!drawn && !problem" height="420px" />
    <template v-if="drawn?.map">
      <details v-if="drawn.differences.length && since !== 'known'" class="panel" open>
        <summary>{{ plural(drawn.differences.length, 'difference') }}</summary>
        <div class="log" tabindex="0"><SchemaDifferences :differences="drawn.differences" /></div>
        <p v-if="draft" class="small">A step that gives {{ since }} this schema: <CommandLine :command="draft" /></p>
      </details>
      <p v-else-if="marked && since !== 'known' && !drawn.differences.length" class="good small">
        <i class="pi pi-check" aria-hidden="true" /> No difference.
      </p>
      <p v-if="!drawn.map.tables.length" class="soft">There are no tables yet.</p>
      <div v-else class="both">
        <MapView v-model:picked="picked" :map="drawn.map" :found="found" class="grow" />
        <aside v-if="table" class="panel stack side">
          <div class="row">
            <h2 class="grow">{{ table.name }}</h2>
            <Button icon="pi pi-times" text size="small" severity="secondary" aria-label="Close" @click="picked = ''" />
          </div>
          <ProblemNote v-if="unseen" :problem="unseen" />
          <p v-if="touched && !touched.length" class="soft small">
            No deployment has touched it since Vorrang looks at what they do.
          </p>
          <div v-for="e in touched" :key="`${e.deployment} ${e.step} ${e.at}`">
            <p class="small">
              <RouterLink :to="`/deployments/${e.deployment}`">Deployment {{ e.deployment }}</RouterLink
              ><template v-if="e.step"
                >, step <b>{{ e.step }}</b>{{ e.direction === 'back' ? ' back' : '' }}</template
              >
              <span class="soft">{{ moment(e.at) }}</span>
            </p>
            <ul class="small">
              <li v-for="d in e.effect" :key="d.kind + d.name">
                {{ d.what }} {{ d.kind }} <code>{{ d.of ? d.name.slice(d.of.length + 1) : d.name }}</code>
              </li>
            </ul>
          </div>
          <p v-if="changes?.next">
            <Button label="Older" size="small" outlined severity="secondary" @click="readOlderChanges" />
          </p>
        </aside>
      </div>
    </template>
    <ReasonDialog
      v-model:open="acceptOpen"
      :title="`Accept the schema of ${path.lane} / ${path.environment}`"
      confirm="It is right as it is"
      asks="Why is it right? Your reason is kept."
      :act="accept"
    >
      <p>
        From now on the schema as it is now counts as known: {{ plural(drift?.differences.length ?? 0, 'object') }} that
        drifted are no drift any more. Nothing is run, and other environments do not get it.
      </p>
    </ReasonDialog>
  </div>
</template>

<style scoped>
.drift {
  border-left: 4px solid var(--warn);
}
.ways {
  display: grid;
  grid-template-columns: max-content auto;
  gap: 2px 10px;
  align-items: center;
  margin-top: 8px;
  justify-content: start;
}
.both {
  display: flex;
  gap: var(--gap);
  align-items: flex-start;
}
.side {
  width: 320px;
  max-height: max(420px, calc(100vh - 330px));
  overflow: auto;
  flex: none;
}
.side ul {
  margin: 2px 0 0;
  padding-left: 16px;
  overflow-wrap: anywhere;
}
.log {
  max-height: 32vh;
  overflow: auto;
  margin-top: 8px;
}
summary {
  cursor: pointer;
}
@media (max-width: 900px) {
  .both {
    flex-direction: column;
  }
  .side {
    width: 100%;
  }
}
</style>
