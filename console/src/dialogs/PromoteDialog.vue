<script setup lang="ts">
import Checkbox from 'primevue/checkbox'
import InputText from 'primevue/inputtext'
import Select from 'primevue/select'
import { computed, ref, watch } from 'vue'
import { useRouter } from 'vue-router'

import { api, problemOf, result, type EnvironmentStatus } from '../api'
import { labels, plural, titled } from '../labels'
import { useLook } from '../look'
import { useSources } from '../sources'
import FleetPlans from '../parts/FleetPlans.vue'
import GateList from '../parts/GateList.vue'
import ProblemNote from '../parts/ProblemNote.vue'
import ActDialog from './ActDialog.vue'

const props = defineProps<{ environment: EnvironmentStatus }>()
const emit = defineEmits<{ done: [] }>()
const open = defineModel<boolean>('open', { required: true })
const router = useRouter()

const path = computed(() => ({ lane: props.environment.lane, environment: props.environment.environment }))
const place = computed(() => `${props.environment.lane} / ${props.environment.environment}`)

const { source, sources, release, fetchSources } = useSources(() => props.environment)

/** What would run, and what the gate says to it. */
const {
  value: preview,
  problem,
  look,
} = useLook(() =>
  result(
    api.GET('/api/v1/lanes/{lane}/environments/{environment}/preview', {
      params: { path: path.value, query: { release: release.value, limit: 1 } },
    }),
  ),
)
watch(preview, () => (through.value = preview.value?.actions.at(-1)?.number ?? ''))

const waiting = computed(() => preview.value?.actions ?? [])
const choices = computed(() => waiting.value.map((s) => ({ value: s.number, label: titled(s) })))
const through = ref('')
const policies: { value: 'stop' | 'back-out'; label: string }[] = [
  { value: 'stop', label: 'the steps before it stay' },
  { value: 'back-out', label: 'the steps before it are backed out, newest first' },
]
const policy = ref<'stop' | 'back-out'>('stop')
const whole = ref(false)
const later = ref(false)
const at = ref('')

watch(open, async (on) => {
  if (!on) return
  policy.value = props.environment.on_failure
  whole.value = later.value = false
  at.value = ''
  try {
    await fetchSources()
  } catch (error) {
    problem.value = problemOf(error)
  }
  await look()
})
watch(source, () => open.value && look())

const chosen = computed(() => waiting.value.slice(0, waiting.value.findIndex((s) => s.number === through.value) + 1))
const plans = computed(() => (preview.value?.fleet ?? []).filter((p) => p.steps > 0 || p.message))
const fleet = computed(() => props.environment.fleet)
const apart = computed(() => chosen.value.some((s) => s.mode !== 'transaction'))

async function act() {
  const answer = await result(
    api.POST('/api/v1/lanes/{lane}/environments/{environment}/promotions', {
      params: { path: path.value },
      body: {
        through: through.value,
        release: release.value,
        on_failure: policy.value,
        whole: whole.value,
        // of a fleet whose targets have several plans, none is the one that was shown
        plan: plans.value.length > 1 ? '' : (chosen.value.at(-1)?.plan ?? ''),
        ...(later.value ? { at: new Date(at.value).toISOString() } : {}),
      },
    }),
  )
  if (answer.scheduled) emit('done')
  if (answer.fleet) await router.push(`/fleet-deployments/${answer.fleet.id}`)
  if (answer.deployment) await router.push(`/deployments/${answer.deployment.id}`)
}
</script>

<template>
  <ActDialog
    v-model:open="open"
    :title="`${labels.promote} to ${place}`"
    :act="act"
    :ready="chosen.length > 0 && (later ? !!at : !preview?.held)"
    :confirm="`${later ? 'Schedule' : 'Apply'} ${plural(chosen.length, 'step')} to ${environment.environment}`"
  >
    <label class="row">
      <span>Apply</span>
      <Select
        v-model="source"
        name="release"
        :options="sources"
        option-label="label"
        option-value="value"
        class="grow"
        size="small"
      />
    </label>
    <ProblemNote v-if="problem" :problem="problem" />
    <template v-if="preview">
      <GateList :checks="preview.gate" :tolerated="!preview.held" holds-only />
      <label v-if="choices.length > 1" class="row">
        <span>Up to step</span>
        <Select
          v-model="through"
          :options="choices"
          option-label="label"
          option-value="value"
          class="grow"
          size="small"
        />
      </label>
      <p v-if="chosen.length">
        <template v-if="fleet">
          These steps will be applied to {{ plural(preview.fleet?.[0]?.targets.length ?? 0, 'target') }} of
          <b>{{ place }}</b>, in waves.
        </template>
        <template v-else>
          These steps will be applied to <b>{{ place }}</b> (target <code>{{ environment.target }}</code>), in this
          order.
        </template>
      </p>
      <p v-else class="soft">There is nothing to do: all of it is applied here.</p>
      <p v-if="fleet && !preview.held && preview.gate.some((c) => c.verdict === 'hold')" class="small warn">
        Targets whose gate is held are passed over, and named: {{ plural(fleet.tolerate, 'exception') }} tolerated.
      </p>
      <FleetPlans :plans="preview.fleet ?? []" />
      <ol class="steps">
        <li v-for="s in chosen" :key="s.number">
          <b>{{ s.number }}</b> {{ s.slug.replaceAll('-', ' ') }}
          <span v-if="s.mode !== 'transaction'" class="small warn">mode {{ s.mode }}</span>
          <span v-if="s.phase === 'contract'" class="small warn">phase contract</span>
          <span v-if="s.irreversible" class="small warn">no way back</span>
        </li>
      </ol>
      <label v-if="!whole" class="row">
        <span>If a step fails</span>
        <Select
          v-model="policy"
          name="policy"
          :options="policies"
          option-label="label"
          option-value="value"
          class="grow"
          size="small"
        />
      </label>
      <label class="row">
        <Checkbox v-model="whole" binary :disabled="apart" /> All in one transaction: all or nothing
        <span v-if="apart" class="soft small">not possible with a step of another mode</span>
      </label>
      <div class="row">
        <label class="row"><Checkbox v-model="later" binary /> Not now, but at</label>
        <InputText
          v-model="at"
          type="datetime-local"
          name="at"
          size="small"
          aria-label="The time, in this browser's zone"
          :disabled="!later"
        />
        <span class="soft small">if the gate is clear then; this browser's time</span>
      </div>
    </template>
  </ActDialog>
</template>

<style scoped>
.steps {
  margin: 0;
  padding-left: 2rem;
  max-height: 30vh;
  overflow: auto;
}
</style>
