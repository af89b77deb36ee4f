<script setup lang="ts">
import { api, result, type EnvironmentStatus } from '../api'
import { fleetOf, labels } from '../labels'
import ReasonDialog from './ReasonDialog.vue'

/** Has deployments to a fleet, and gates, pass over one of its targets. */
const props = defineProps<{ environment: EnvironmentStatus }>()
const emit = defineEmits<{ done: [] }>()
const open = defineModel<boolean>('open', { required: true })

async function act(reason: string) {
  await result(
    api.PUT('/api/v1/lanes/{lane}/environments/{environment}/aside', {
      params: { path: { lane: props.environment.lane, environment: props.environment.environment } },
      body: { reason },
    }),
  )
  emit('done')
}
</script>

<template>
  <ReasonDialog
    v-model:open="open"
    :title="`${labels.setAside} ${environment.lane} / ${environment.environment}`"
    :confirm="`${labels.setAside} ${environment.environment}`"
    asks="Why? Everybody who looks at the fleet reads it."
    :act="act"
  >
    <p>
      Deployments to <b>{{ fleetOf(environment.environment) }}</b>, and the gates of the environments after it, pass
      over this target until it is taken back. It gets no steps meanwhile.
    </p>
  </ReasonDialog>
</template>
