<script setup lang="ts">
import Checkbox from 'primevue/checkbox'
import Select from 'primevue/select'
import { computed, ref, watch } from 'vue'

import { api, result, type EnvironmentStatus } from '../api'
import { labels, titled } from '../labels'
import DifferenceView from '../parts/DifferenceView.vue'
import ReasonField from '../parts/ReasonField.vue'
import ActDialog from './ActDialog.vue'

/** Records that an edited step's new text is right. */
const props = defineProps<{ environment: EnvironmentStatus }>()
const emit = defineEmits<{ done: [] }>()
const open = defineModel<boolean>('open', { required: true })

const place = computed(() => `${props.environment.lane} / ${props.environment.environment}`)
const edited = computed(() => (props.environment.steps ?? []).filter((s) => s.flags?.includes('edited')))
const choices = computed(() => edited.value.map((s) => ({ value: s.number, label: titled(s) })))
const step = ref('')
const reason = ref('')
const acknowledge = ref(false)
const shown = computed(() => edited.value.find((s) => s.number === step.value))
watch(open, () => {
  step.value = edited.value[0]?.number ?? ''
  reason.value = ''
  acknowledge.value = false
})

async function act() {
  await result(
    api.POST('/api/v1/lanes/{lane}/environments/{environment}/amendments', {
      params: { path: { lane: props.environment.lane, environment: props.environment.environment } },
      body: { step: step.value, reason: reason.value, acknowledge: acknowledge.value },
    }),
  )
  emit('done')
}
</script>

<template>
  <ActDialog
    v-model:open="open"
    wide
    :title="`${labels.amend} a step on ${place}`"
    :act="act"
    :ready="!!shown && !!reason.trim()"
    :confirm="`Record the new text of step ${step} as right`"
  >
    <label class="row">
      <span>The edited step</span>
      <Select v-model="step" :options="choices" option-label="label" option-value="value" class="grow" size="small" />
    </label>
    <DifferenceView v-if="shown?.difference" :difference="shown.difference" />
    <p>
      <b>Nothing is run.</b> If the edit changes what the step does, <b>{{ place }}</b> must have that by other means,
      or it will differ from the others. Otherwise put the applied text back, and write the change as a new step.
    </p>
    <label class="row small"
      ><Checkbox v-model="acknowledge" binary /> Record it even if the target is not as the new text would have left
      it</label
    >
    <ReasonField v-model="reason" />
  </ActDialog>
</template>
