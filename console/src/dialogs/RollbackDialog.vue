<script setup lang="ts">
import InputText from 'primevue/inputtext'
import Select from 'primevue/select'
import { computed, ref, watch } from 'vue'
import { useRouter } from 'vue-router'

import { api, result, type EnvironmentStatus } from '../api'
import { labels, plural } from '../labels'
import { useLook } from '../look'
import PreviewList from '../parts/PreviewList.vue'
import ProblemNote from '../parts/ProblemNote.vue'
import ActDialog from './ActDialog.vue'

const props = defineProps<{ environment: EnvironmentStatus }>()
const open = defineModel<boolean>('open', { required: true })
const router = useRouter()

const params = computed(() => ({ lane: props.environment.lane, environment: props.environment.environment }))
const place = computed(() => `${props.environment.lane} / ${props.environment.environment}`)
/** How far back: by the steps of a target, or of a fleet by a number for each of its targets. */
const choices = computed(() => (props.environment.fleet ? ofEach(props.environment.fleet.groups) : ofOne()))
const most = 100
const ofEach = (groups: { applied: number }[]) =>
  Array.from({ length: Math.min(most, Math.max(1, ...groups.map((g) => g.applied))) }, (_, i) => ({
    value: i + 1,
    label: i === 0 ? 'the last step of each target' : `the last ${i + 1} steps of each target`,
  }))
const ofOne = () =>
  (props.environment.steps ?? [])
    .filter((s) => s.state === 'applied' || s.state === 'attested' || s.half_done)
    .sort((a, b) => Date.parse(b.at ?? '') - Date.parse(a.at ?? ''))
    .slice(0, most)
    .map((s, i) => ({
      value: i + 1,
      label:
        i === 0
          ? `the last step: ${s.number} ${s.slug.replaceAll('-', ' ')}`
          : `the last ${i + 1} steps, down to ${s.number} ${s.slug.replaceAll('-', ' ')}`,
    }))
/** A fleet whose targets have several plans: none is the one that was shown. */
const several = computed(() => (preview.value?.fleet ?? []).filter((p) => p.steps > 0).length > 1)
const steps = ref(1)
const typed = ref('')
const confirmed = computed(() => props.environment.disposable || typed.value === props.environment.environment)
const {
  value: preview,
  problem,
  look,
} = useLook(() =>
  result(
    api.GET('/api/v1/lanes/{lane}/environments/{environment}/preview', {
      params: { path: params.value, query: { last: steps.value, limit: 20000 } },
    }),
  ),
)
watch(open, () => {
  steps.value = 1
  typed.value = ''
})
watch([open, steps], () => open.value && look())

async function act() {
  const answer = await result(
    api.POST('/api/v1/lanes/{lane}/environments/{environment}/rollbacks', {
      params: { path: params.value },
      body: {
        last: steps.value,
        confirm: typed.value,
        plan: several.value ? '' : (preview.value?.actions.at(-1)?.plan ?? ''),
      },
    }),
  )
  if (answer.fleet) await router.push(`/fleet-deployments/${answer.fleet.id}`)
  if (answer.deployment) await router.push(`/deployments/${answer.deployment.id}`)
}
</script>

<template>
  <ActDialog
    v-model:open="open"
    :title="`${labels.rollBack} on ${place}`"
    severity="danger"
    :act="act"
    :ready="!!preview?.actions.length && !preview.held && confirmed"
    :confirm="`Roll ${plural(steps, 'step')} back on ${environment.environment}`"
  >
    <label class="row">
      <span>Roll back</span>
      <Select v-model="steps" :options="choices" option-label="label" option-value="value" class="grow" size="small" />
    </label>
    <p>
      This SQL will run on
      <template v-if="environment.fleet">{{ plural(preview?.fleet?.[0]?.targets.length ?? 0, 'target') }} of </template>
      <b>{{ place }}</b><template v-if="environment.target">
        (target <code>{{ environment.target }}</code>)</template
      >, newest step first. What a way back deletes is gone; the steps are pending again afterwards.
    </p>
    <ProblemNote v-if="problem" :problem="problem" />
    <PreviewList v-else-if="preview" :preview="preview" class="sql" />
    <label v-if="!environment.disposable" class="row">
      <span
        >To confirm, type <b>{{ environment.environment }}</b></span
      >
      <InputText v-model="typed" name="confirm" autocomplete="off" size="small" class="grow" />
    </label>
  </ActDialog>
</template>

<style scoped>
.sql {
  max-height: 42vh;
  overflow: auto;
}
</style>
