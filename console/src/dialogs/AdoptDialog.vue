<script setup lang="ts">
import { computed, ref, watch } from 'vue'

import { api, result, type EnvironmentStatus } from '../api'
import { labels } from '../labels'
import { useLook } from '../look'
import ProblemNote from '../parts/ProblemNote.vue'
import ReasonField from '../parts/ReasonField.vue'
import SchemaDifferences from '../parts/SchemaDifferences.vue'
import ActDialog from './ActDialog.vue'

/** Takes over what is found in a target that was restored, refreshed or made again. */
const props = defineProps<{ environment: EnvironmentStatus }>()
const emit = defineEmits<{ done: [] }>()
const open = defineModel<boolean>('open', { required: true })

const path = computed(() => ({ lane: props.environment.lane, environment: props.environment.environment }))
const place = computed(() => `${props.environment.lane} / ${props.environment.environment}`)
const reason = ref('')
const {
  value: found,
  problem,
  look,
} = useLook(() =>
  result(api.GET('/api/v1/lanes/{lane}/environments/{environment}/adoption', { params: { path: path.value } })),
)

watch(open, (on) => {
  if (!on) return
  reason.value = ''
  look()
})

async function act() {
  await result(
    api.POST('/api/v1/lanes/{lane}/environments/{environment}/adoptions', {
      params: { path: path.value },
      body: { finding: found.value?.finding ?? '', reason: reason.value },
    }),
  )
  emit('done')
}
</script>

<template>
  <ActDialog
    v-model:open="open"
    wide
    :title="`${labels.adopt} what is found on ${place}`"
    :act="act"
    :ready="!!found?.needed && !!reason.trim()"
    confirm="Take it over as it is"
  >
    <ProblemNote v-if="problem" :problem="problem" />
    <template v-if="found">
      <ul class="found">
        <li v-for="line in found.lines" :key="line">{{ line }}</li>
      </ul>
      <SchemaDifferences
        v-if="found.differences.length"
        :differences="found.differences.slice(0, 100)"
        :more="Math.max(found.differences.length - 100, 0)"
      />
    </template>
    <p>
      The ledger gets an entry that says so, and the schema is right as it is from then on. <b>Nothing is run</b>, and
      no entry is changed. The gate says so until the next deployment.
    </p>
    <ReasonField v-model="reason" />
  </ActDialog>
</template>

<style scoped>
.found {
  margin: 0;
  padding-left: 1.2rem;
  overflow-wrap: anywhere;
}
</style>
