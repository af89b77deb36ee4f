<script setup lang="ts">
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import Select from 'primevue/select'
import Skeleton from 'primevue/skeleton'
import { computed, ref, shallowRef, watch } from 'vue'

import { api, problemOf, result, type Deployment, type Problem } from '../api'
import { usePolled } from '../poll'
import DeploymentTable from './DeploymentTable.vue'
import FleetDeploymentList from './FleetDeploymentList.vue'
import ProblemNote from './ProblemNote.vue'

/** Deployments of everywhere or of one environment, the newest first: searched, and page by page. */
const props = defineProps<{ lane?: string; environment?: string }>()

type Outcome = Deployment['outcome']
const words: Outcome[] = ['running', 'done', 'failed', 'backed out', 'cancelled', 'interrupted']
const outcomes = [{ label: 'any outcome', value: 'any' }, ...words.map((o) => ({ label: o, value: o }))]
const page = 50
const outcome = ref<Outcome | 'any'>('any')
const actor = ref('')
const step = ref('')
const release = ref('')
const asked = ref({})
const query = computed(() => ({
  ...(props.lane && { lane: props.lane }),
  ...(props.environment && { environment: props.environment }),
  ...asked.value,
}))
const searched = computed(() => Object.keys(asked.value).length > 0)

const read = (before = 0) =>
  result(api.GET('/api/v1/deployments', { params: { query: { ...query.value, before, limit: page } } }))
const { value: newest, problem, refresh } = usePolled(() => read())

const older = shallowRef<Deployment[]>([])
const next = ref<number>()
const olderProblem = ref<Problem>()
async function readOlder() {
  olderProblem.value = undefined
  const question = query.value
  try {
    const found = await read(next.value ?? newest.value?.next)
    if (question !== query.value) return
    older.value = [...older.value, ...found.deployments]
    next.value = found.next ?? 0
  } catch (error) {
    olderProblem.value = problemOf(error)
  }
}

function startAgain() {
  older.value = []
  next.value = undefined
  olderProblem.value = undefined
  newest.value = undefined
  refresh()
}
function search() {
  asked.value = {
    ...(outcome.value !== 'any' && { outcome: outcome.value }),
    ...(actor.value.trim() && { actor: actor.value.trim() }),
    ...(step.value.trim() && { step: step.value.trim() }),
    ...(release.value.trim() && { release: release.value.trim() }),
  }
}
watch(query, startAgain)

// what moves off the first page while older ones are shown stays
watch(newest, (now, was) => {
  const oldest = now?.deployments.at(-1)?.id
  if (next.value === undefined || !was || oldest === undefined) return
  older.value = [...was.deployments.filter((d) => d.id < oldest), ...older.value]
})
const shown = computed(() => [...(newest.value?.deployments ?? []), ...older.value])
const more = computed(() => (next.value === undefined ? !!newest.value?.next : next.value > 0))
</script>

<template>
  <div class="stack">
    <form class="row" @submit.prevent="search">
      <Select
        v-model="outcome"
        :options="outcomes"
        option-label="label"
        option-value="value"
        aria-label="Outcome"
        size="small"
        @change="search"
      />
      <InputText v-model="actor" name="actor" placeholder="by" aria-label="By" size="small" class="short" />
      <InputText v-model="step" name="step" placeholder="step" aria-label="Step" size="small" class="short" />
      <InputText
        v-model="release"
        name="release"
        placeholder="release"
        aria-label="Release"
        size="small"
        class="short"
      />
      <Button type="submit" label="Search" size="small" outlined severity="secondary" />
    </form>
    <FleetDeploymentList :query="query" />
    <ProblemNote v-if="problem" :problem="problem" />
    <Skeleton v-if="!newest && !problem" height="200px" />
    <p v-if="newest && searched && !shown.length" class="panel soft">No deployment matches.</p>
    <DeploymentTable v-else-if="newest" :deployments="shown" :placed="!lane" />
    <ProblemNote v-if="olderProblem" :problem="olderProblem" />
    <p v-if="more"><Button label="Older" size="small" outlined severity="secondary" @click="readOlder" /></p>
  </div>
</template>

<style scoped>
.short {
  width: 130px;
}
</style>
