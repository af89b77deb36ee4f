<script setup lang="ts">
import Checkbox from 'primevue/checkbox'
import RadioButton from 'primevue/radiobutton'
import { computed, ref, watch } from 'vue'

import { api, result, type EnvironmentStatus } from '../api'
import { useEvidence } from '../evidence'
import { labels } from '../labels'
import EvidenceList from '../parts/EvidenceList.vue'
import ProblemNote from '../parts/ProblemNote.vue'
import ReasonField from '../parts/ReasonField.vue'
import ActDialog from './ActDialog.vue'

const props = defineProps<{ environment: EnvironmentStatus; step: string }>()
const emit = defineEmits<{ done: [] }>()
const open = defineModel<boolean>('open', { required: true })

const path = computed(() => ({ lane: props.environment.lane, environment: props.environment.environment }))
const place = computed(() => `${props.environment.lane} / ${props.environment.environment}`)
const as = ref<'applied' | 'not-applied' | 'undone' | 'whole' | 'again' | ''>('')
const reason = ref('')
const acknowledge = ref(false)
const drop = ref(false)
const { value: evidence, problem, look } = useEvidence(() => ({ ...path.value, step: props.step }))

watch(open, (on) => {
  if (!on) return
  as.value = reason.value = ''
  acknowledge.value = drop.value = false
  look()
})

async function act() {
  await result(
    api.POST('/api/v1/lanes/{lane}/environments/{environment}/settlements', {
      params: { path: path.value },
      body: {
        step: props.step,
        as: as.value as 'applied',
        reason: reason.value,
        acknowledge: acknowledge.value,
        drop_invalid: drop.value && as.value === 'not-applied',
      },
    }),
  )
  emit('done')
}
</script>

<template>
  <ActDialog
    v-model:open="open"
    :title="`${labels.settle} step ${step} on ${place}`"
    :act="act"
    :ready="!!as && !!reason.trim()"
    confirm="Record it in the ledger"
  >
    <ProblemNote v-if="problem" :problem="problem" />
    <EvidenceList v-if="evidence" :evidence="evidence" />
    <p>Nothing of the step is run; your reason is kept in the ledger.</p>
    <template v-if="evidence?.verdict">
      <p>Did the statement take effect?</p>
      <label class="row"
        ><RadioButton v-model="as" value="applied" /> It took effect; the rest of the step follows it</label
      >
      <label class="row"
        ><RadioButton v-model="as" value="not-applied" /> It did not take effect; the next promotion runs it
        again</label
      >
      <p>Or, of the step as a whole:</p>
    </template>
    <label class="row"><RadioButton v-model="as" value="undone" /> Nothing of the step is there: it was undone</label>
    <label class="row"
      ><RadioButton v-model="as" value="whole" /> All of the step is there: it was finished by hand</label
    >
    <label class="row"><RadioButton v-model="as" value="again" /> Let it begin again at its first statement</label>
    <label v-if="evidence?.invalid.length && as === 'not-applied'" class="row"
      ><Checkbox v-model="drop" binary /> Drop the {{ evidence.invalid.join(', ') }} first, without blocking
      anybody</label
    >
    <label class="row small"
      ><Checkbox v-model="acknowledge" binary /> Record it even if the evidence speaks against it</label
    >
    <ReasonField v-model="reason" />
  </ActDialog>
</template>
