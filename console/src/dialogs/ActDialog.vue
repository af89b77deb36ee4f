<script setup lang="ts">
import Button from 'primevue/button'
import Dialog from 'primevue/dialog'
import { ref } from 'vue'

import { problemOf, type Problem } from '../api'
import { labels } from '../labels'
import GateList from '../parts/GateList.vue'
import ProblemNote from '../parts/ProblemNote.vue'

/**
 * A dialog that says what will happen where, and does it once it is confirmed. With keep it
 * stays open to show what came of it.
 */
const props = defineProps<{
  title: string
  confirm: string
  ready: boolean
  severity?: string
  wide?: boolean
  keep?: boolean
  act: () => Promise<void>
}>()
const open = defineModel<boolean>('open', { required: true })

const busy = ref(false)
const problem = ref<Problem>()

async function run() {
  busy.value = true
  problem.value = undefined
  try {
    await props.act()
    if (!props.keep) open.value = false
  } catch (error) {
    problem.value = problemOf(error)
  }
  busy.value = false
}
</script>

<template>
  <Dialog v-model:visible="open" modal :header="title" :class="{ wide }" @show="problem = undefined">
    <form class="stack" @submit.prevent="run">
      <slot />
      <GateList v-if="problem?.checks?.length" :checks="problem.checks" holds-only />
      <ProblemNote v-else-if="problem" :problem="problem" />
      <div class="row buttons">
        <Button type="button" :label="labels.cancel" text severity="secondary" @click="open = false" />
        <Button type="submit" :label="confirm" :severity="severity" :disabled="!ready" :loading="busy" />
      </div>
    </form>
  </Dialog>
</template>

<style scoped>
.buttons {
  justify-content: flex-end;
  margin-top: 6px;
}
</style>
