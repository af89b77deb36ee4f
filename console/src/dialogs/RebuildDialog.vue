<script setup lang="ts">
import InputText from 'primevue/inputtext'
import { computed, ref, watch } from 'vue'
import { useRouter } from 'vue-router'

import { api, result, type EnvironmentStatus } from '../api'
import { labels } from '../labels'
import ActDialog from './ActDialog.vue'

/** Empties a disposable environment and applies everything. */
const props = defineProps<{ environment: EnvironmentStatus }>()
const open = defineModel<boolean>('open', { required: true })
const router = useRouter()

const place = computed(() => `${props.environment.lane} / ${props.environment.environment}`)
const typed = ref('')
watch(open, () => (typed.value = ''))

async function act() {
  const answer = await result(
    api.POST('/api/v1/lanes/{lane}/environments/{environment}/rebuilds', {
      params: { path: { lane: props.environment.lane, environment: props.environment.environment } },
      body: { confirm: typed.value },
    }),
  )
  if (answer.deployment) await router.push(`/deployments/${answer.deployment.id}`)
}
</script>

<template>
  <ActDialog
    v-model:open="open"
    :title="`${labels.rebuild} ${place}`"
    severity="danger"
    :act="act"
    :ready="typed === environment.environment"
    :confirm="`Empty ${environment.environment} and apply every step`"
  >
    <p>
      Everything in the application's schemas of <b>{{ place }}</b> (target <code>{{ environment.target }}</code>) is
      dropped, <b>rows included</b>; then every step is applied again. The ledger stays.
    </p>
    <p class="soft">
      The service refuses this if the database is also the target of an environment that is not disposable.
    </p>
    <label class="row">
      <span
        >To confirm, type <b>{{ environment.environment }}</b></span
      >
      <InputText v-model="typed" name="confirm" autocomplete="off" size="small" class="grow" />
    </label>
  </ActDialog>
</template>
