<script setup lang="ts">
import Checkbox from 'primevue/checkbox'
import InputText from 'primevue/inputtext'
import RadioButton from 'primevue/radiobutton'
import { computed, ref, shallowRef, watch } from 'vue'

import { api, problemOf, result, type EnvironmentStatus, type Evidence, type Problem } from '../api'
import { labels } from '../labels'
import EvidenceList from '../parts/EvidenceList.vue'
import ProblemNote from '../parts/ProblemNote.vue'
import ActDialog from './ActDialog.vue'

const props = defineProps<{ environment: EnvironmentStatus; step: string }>()
const emit = defineEmits<{ done: [] }>()
const open = defineModel<boolean>('open', { required: true })

const path = computed(() => ({ lane: props.environment.lane, environment: props.environment.environment }))
const place = computed(() => `${props.environment.lane} / ${props.environment.environment}`)
const as = ref<'applied' | 'not-applied' | ''>('')
const reason = ref('')
const acknowledge = ref(false)
const drop = ref(false)
const evidence = shallowRef<Evidence>()
const problem = ref<Problem>()

watch(open, async (on) => {
  if (!on) return
  as.value = reason.value = ''
  acknowledge.value = drop.value = false
  evidence.value = problem.value = undefined
  try {
    evidence.value = await result(
      api.GET('/api/v1/lanes/{lane}/environments/{environment}/steps/{step}/evidence', { params: { path: { ...path.value, step: props.step } } }),
    )
  } catch (error) {
    problem.value = problemOf(error)
  }
})

async function act() {
  await result(
    api.POST('/api/v1/lanes/{lane}/environments/{environment}/settlements', {
      params: { path: path.value },
      body: { step: props.step, as: as.value as 'applied', reason: reason.value, acknowledge: acknowledge.value, drop_invalid: drop.value && as.value === 'not-applied' },
    }),
  )
  emit('done')
}
</script>

<template>
  <ActDialog v-model:open="open" :title="`${labels.settle} step ${step} on ${place}`" :act="act" :ready="!!as && !!reason.trim()" confirm="Record it in the ledger">
    <ProblemNote v-if="problem" :problem="problem" />
    <EvidenceList v-if="evidence" :evidence="evidence" />
    <p>Did the statement take effect? Nothing of the step is run; your word stands in the ledger.</p>
    <label class="row"><RadioButton v-model="as" value="applied" /> It took effect; what is left of the step goes on behind it</label>
    <label class="row"><RadioButton v-model="as" value="not-applied" /> It did not take effect; the next promotion runs it again</label>
    <label v-if="evidence?.invalid.length && as === 'not-applied'" class="row"><Checkbox v-model="drop" binary /> Drop the {{ evidence.invalid.join(', ') }} first, without blocking anybody</label>
    <label class="row small"><Checkbox v-model="acknowledge" binary /> Record it even if the evidence speaks against it</label>
    <label class="stack tight"><span class="small">{{ labels.howKnown }}</span><InputText v-model="reason" name="reason" required /></label>
  </ActDialog>
</template>

<style scoped>
.tight { gap: 4px; }
</style>
