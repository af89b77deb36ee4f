<script setup lang="ts">
import Checkbox from 'primevue/checkbox'
import Select from 'primevue/select'
import { computed, ref, watch } from 'vue'

import { api, result, type EnvironmentStatus } from '../api'
import { useEvidence } from '../evidence'
import { labels, titled } from '../labels'
import EvidenceList from '../parts/EvidenceList.vue'
import ProblemNote from '../parts/ProblemNote.vue'
import ReasonField from '../parts/ReasonField.vue'
import ActDialog from './ActDialog.vue'

/** Records a step as run by hand, after a look at the target. */
const props = defineProps<{ environment: EnvironmentStatus; steps: { number: string; slug: string }[] }>()
const emit = defineEmits<{ done: [] }>()
const open = defineModel<boolean>('open', { required: true })

const path = computed(() => ({ lane: props.environment.lane, environment: props.environment.environment }))
const place = computed(() => `${props.environment.lane} / ${props.environment.environment}`)
const choices = computed(() => props.steps.map((s) => ({ value: s.number, label: titled(s) })))
const step = ref('')
const reason = ref('')
const acknowledge = ref(false)
const { value: evidence, problem, look } = useEvidence(() => ({ ...path.value, step: step.value }))

watch(open, () => {
  step.value = props.steps[0]?.number ?? ''
  reason.value = ''
})
watch([open, step], () => {
  acknowledge.value = false
  if (open.value && step.value) look()
})
const more = computed(
  () => evidence.value?.wrong.filter((w) => !evidence.value?.lines.some((line) => w.startsWith(line))) ?? [],
)
const asItShouldBe = computed(() => evidence.value?.wrong.length === 0)

async function act() {
  await result(
    api.POST('/api/v1/lanes/{lane}/environments/{environment}/attestations', {
      params: { path: path.value },
      body: { step: step.value, reason: reason.value, acknowledge: acknowledge.value },
    }),
  )
  emit('done')
}
</script>

<template>
  <ActDialog
    v-model:open="open"
    :title="`${labels.attest} a step on ${place}`"
    :act="act"
    :ready="!!evidence && !!reason.trim() && (asItShouldBe || acknowledge)"
    :confirm="`Record step ${step} as run by hand`"
  >
    <label class="row">
      <span>The step</span>
      <Select v-model="step" :options="choices" option-label="label" option-value="value" class="grow" size="small" />
    </label>
    <p>
      This records on <b>{{ place }}</b> that somebody ran the step by hand. <b>Nothing is run.</b>
    </p>
    <ProblemNote v-if="problem" :problem="problem" />
    <EvidenceList v-if="evidence" :evidence="evidence" />
    <template v-if="evidence && !asItShouldBe">
      <p class="bad">Not everything is as the step should have left it.</p>
      <ul v-if="more.length">
        <li v-for="line in more" :key="line">{{ line }}</li>
      </ul>
      <label class="row"
        ><Checkbox v-model="acknowledge" binary /> I have seen that, and it is meant to be like this</label
      >
    </template>
    <ReasonField v-model="reason" />
  </ActDialog>
</template>

<style scoped>
ul {
  margin: 0;
  padding-left: 1.4rem;
}
</style>
