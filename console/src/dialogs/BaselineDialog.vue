<script setup lang="ts">
import Checkbox from 'primevue/checkbox'
import Select from 'primevue/select'
import { computed, ref } from 'vue'

import { api, result, type EnvironmentStatus } from '../api'
import { labels, plural } from '../labels'
import ActDialog from './ActDialog.vue'

const props = defineProps<{ environment: EnvironmentStatus }>()
const emit = defineEmits<{ done: [] }>()
const open = defineModel<boolean>('open', { required: true })

const place = computed(() => `${props.environment.lane} / ${props.environment.environment}`)
const choices = computed(() => [
  { value: '0', label: '0: it contains none of the steps' },
  ...(props.environment.steps ?? []).map((s) => ({
    value: s.number,
    label: `${s.number} ${s.slug.replaceAll('-', ' ')}`,
  })),
])
const at = ref<string>()
const check = ref(true)
const covered = computed(() => choices.value.findIndex((c) => c.value === at.value))

async function act() {
  await result(
    api.POST('/api/v1/lanes/{lane}/environments/{environment}/baselines', {
      params: { path: { lane: props.environment.lane, environment: props.environment.environment } },
      body: { at: at.value ?? '', check: check.value },
    }),
  )
  emit('done')
}
</script>

<template>
  <ActDialog
    v-model:open="open"
    :title="`${labels.baseline} of ${place}`"
    :act="act"
    :ready="at !== undefined"
    :confirm="at === undefined ? labels.baseline : `Record step ${at} as the baseline of ${environment.environment}`"
  >
    <p>
      This records that the existing database of <b>{{ place }}</b> (target <code>{{ environment.target }}</code>)
      already contains every step up to a number. <b>Nothing is run.</b> Steps above it become pending. A baseline is
      recorded once.
    </p>
    <label class="row">
      <span>The last step it contains</span>
      <Select
        v-model="at"
        :options="choices"
        option-label="label"
        option-value="value"
        placeholder="Choose a step"
        class="grow"
        size="small"
        filter
      />
    </label>
    <p v-if="at !== undefined" class="soft">
      {{
        covered === 0
          ? 'No step will be covered; all are pending.'
          : `${plural(covered, 'step')} will be covered and never run here.`
      }}
    </p>
    <label class="row"
      ><Checkbox v-model="check" binary /> First apply these steps to a scratch database on the disposable environment's
      server, and compare the objects' names</label
    >
  </ActDialog>
</template>
