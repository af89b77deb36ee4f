<script setup lang="ts">
import InputText from 'primevue/inputtext'
import { computed, ref, watch } from 'vue'

import { api, result, type EnvironmentStatus } from '../api'
import ActDialog from './ActDialog.vue'

/** Forbids promotions to an environment for a time. */
const props = defineProps<{ environment: EnvironmentStatus }>()
const emit = defineEmits<{ done: [] }>()
const open = defineModel<boolean>('open', { required: true })

const from = ref('')
const until = ref('')
const reason = ref('')
const place = computed(() => `${props.environment.lane} / ${props.environment.environment}`)
watch(open, () => (from.value = until.value = reason.value = ''))

async function act() {
  await result(
    api.POST('/api/v1/lanes/{lane}/environments/{environment}/freezes', {
      params: { path: { lane: props.environment.lane, environment: props.environment.environment } },
      body: {
        ...(from.value ? { from: new Date(from.value).toISOString() } : {}),
        until: new Date(until.value).toISOString(),
        reason: reason.value,
      },
    }),
  )
  emit('done')
}
</script>

<template>
  <ActDialog
    v-model:open="open"
    :title="`Freeze ${place}`"
    :act="act"
    :ready="!!until && !!reason.trim()"
    :confirm="`Freeze ${environment.environment}`"
  >
    <p>
      Nothing is promoted to <b>{{ place }}</b> in this time. Rollbacks and repairs are still possible. Times are this
      browser's.
    </p>
    <div class="row">
      <label class="stack field"
        ><span class="small">From <span class="soft">(now, if empty)</span></span
        ><InputText v-model="from" type="datetime-local" name="from" size="small"
      /></label>
      <label class="stack field"
        ><span class="small">Until</span
        ><InputText v-model="until" type="datetime-local" name="until" size="small" required
      /></label>
    </div>
    <label class="stack field"
      ><span class="small">Why? The people it holds read it.</span><InputText v-model="reason" name="reason" required
    /></label>
  </ActDialog>
</template>

<style scoped>
.field {
  gap: 4px;
}
</style>
