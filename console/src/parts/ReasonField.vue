<script setup lang="ts">
import InputText from 'primevue/inputtext'

import { labels } from '../labels'

/** Asks how somebody knows what they record. */
const reason = defineModel<string>({ required: true })
</script>

<template>
  <label class="stack reason"
    ><span class="small">{{ labels.howKnown }}</span
    ><InputText v-model="reason" name="reason" required
  /></label>
</template>

<style scoped>
.reason {
  gap: 4px;
}
</style>
