<script setup lang="ts">
import Checkbox from 'primevue/checkbox'
import Select from 'primevue/select'
import { computed, ref, watch } from 'vue'
import { useRouter } from 'vue-router'

import { api, result, type EnvironmentStatus } from '../api'
import { labels, plural } from '../labels'
import GateList from '../parts/GateList.vue'
import ActDialog from './ActDialog.vue'

const props = defineProps<{ environment: EnvironmentStatus }>()
const open = defineModel<boolean>('open', { required: true })
const router = useRouter()

const waiting = computed(() =>
  (props.environment.steps ?? []).filter((s) => ['pending', 'rolled back', 'failed'].includes(s.state) && !s.flags?.includes('not here')),
)
const choices = computed(() => waiting.value.map((s) => ({ value: s.number, label: `${s.number} ${s.slug.replaceAll('-', ' ')}` })))
const through = ref('')
const policies: { value: 'stop' | 'back-out'; label: string }[] = [
  { value: 'stop', label: 'the steps before it stay' },
  { value: 'back-out', label: 'the steps before it are backed out, newest first' },
]
const policy = ref<'stop' | 'back-out'>('stop')
const whole = ref(false)
watch(open, () => {
  through.value = choices.value.at(-1)?.value ?? ''
  policy.value = props.environment.on_failure
  whole.value = false
})

const chosen = computed(() => waiting.value.slice(0, waiting.value.findIndex((s) => s.number === through.value) + 1))
const held = computed(() => props.environment.gate.some((c) => c.verdict === 'hold'))
const place = computed(() => `${props.environment.lane} / ${props.environment.environment}`)

async function act() {
  const answer = await result(
    api.POST('/api/v1/lanes/{lane}/environments/{environment}/promotions', {
      params: { path: { lane: props.environment.lane, environment: props.environment.environment } },
      body: { through: through.value, on_failure: policy.value, whole: whole.value },
    }),
  )
  if (answer.deployment) await router.push(`/deployments/${answer.deployment.id}`)
}
</script>

<template>
  <ActDialog
    v-model:open="open" :title="`${labels.promote} to ${place}`" :act="act" :ready="chosen.length > 0 && !held"
    :confirm="`Apply ${plural(chosen.length, 'step')} to ${environment.environment}`"
  >
    <GateList :checks="environment.gate" :holds-only="true" />
    <label class="row">
      <span>Up to step</span>
      <Select v-model="through" :options="choices" option-label="label" option-value="value" class="grow" size="small" />
    </label>
    <p>These steps will be applied to <b>{{ place }}</b> (target <code>{{ environment.target }}</code>), in this order.</p>
    <ol class="steps">
      <li v-for="s in chosen" :key="s.number">
        <b>{{ s.number }}</b> {{ s.slug.replaceAll('-', ' ') }}
        <span v-if="s.mode !== 'transaction'" class="small warn">mode {{ s.mode }}</span>
        <span v-if="s.phase === 'contract'" class="small warn">phase contract</span>
        <span v-if="!s.back" class="small warn">no way back</span>
      </li>
    </ol>
    <label v-if="!whole" class="row">
      <span>If a step fails</span>
      <Select v-model="policy" name="policy" :options="policies" option-label="label" option-value="value" class="grow" size="small" />
    </label>
    <label class="row"><Checkbox v-model="whole" binary :disabled="chosen.some((s) => s.mode !== 'transaction')" /> All in one transaction: all or nothing
      <span v-if="chosen.some((s) => s.mode !== 'transaction')" class="soft small">not possible with a step of another mode</span></label>
  </ActDialog>
</template>

<style scoped>
.steps { margin: 0; padding-left: 2rem; max-height: 34vh; overflow: auto; }
</style>
