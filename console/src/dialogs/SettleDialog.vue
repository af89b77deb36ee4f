<script setup lang="ts">
import InputText from 'primevue/inputtext'
import RadioButton from 'primevue/radiobutton'
import { computed, ref, watch } from 'vue'

import { api, result, type EnvironmentStatus } from '../api'
import { labels } from '../labels'
import ActDialog from './ActDialog.vue'

const props = defineProps<{ environment: EnvironmentStatus; step: string }>()
const emit = defineEmits<{ done: [] }>()
const open = defineModel<boolean>('open', { required: true })

const as = ref('')
const reason = ref('')
watch(open, () => (as.value = reason.value = ''))
const place = computed(() => `${props.environment.lane} / ${props.environment.environment}`)

async function act() {
  await result(
    api.POST('/api/v1/lanes/{lane}/environments/{environment}/settlements', {
      params: { path: { lane: props.environment.lane, environment: props.environment.environment } },
      body: { step: props.step, as: as.value as 'applied', reason: reason.value },
    }),
  )
  emit('done')
}
</script>

<template>
  <ActDialog v-model:open="open" :title="`${labels.settle} step ${step} on ${place}`" :act="act" :ready="!!as && !!reason.trim()" confirm="Record it in the ledger">
    <p>Look into the database first: did the statement that was under way take effect? Nothing is run; your word stands in the ledger.</p>
    <label class="row"><RadioButton v-model="as" value="applied" /> It took effect</label>
    <label class="row"><RadioButton v-model="as" value="not-applied" /> It did not take effect; the next promotion runs it again</label>
    <label class="stack tight"><span class="small">How do you know?</span><InputText v-model="reason" required /></label>
  </ActDialog>
</template>

<style scoped>
.tight { gap: 4px; }
</style>
