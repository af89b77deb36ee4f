<script setup lang="ts">
import Button from 'primevue/button'
import { ref } from 'vue'

import { labels } from '../labels'

/** A command of the client, to copy. */
const props = defineProps<{ command: string }>()
const copied = ref(false)

async function copy() {
  await navigator.clipboard.writeText(props.command)
  copied.value = true
  setTimeout(() => (copied.value = false), 1500)
}
</script>

<template>
  <span class="command">
    <code>{{ command }}</code>
    <Button
      :icon="copied ? 'pi pi-check' : 'pi pi-copy'"
      text
      size="small"
      severity="secondary"
      :aria-label="copied ? labels.copied : labels.copy"
      :title="copied ? labels.copied : labels.copy"
      @click="copy"
    />
  </span>
</template>

<style scoped>
.command {
  display: inline-flex;
  align-items: center;
  gap: 4px;
  background: var(--sunken);
  border: 1px solid var(--line);
  border-radius: 4px;
  padding-left: 8px;
}
code {
  overflow-wrap: anywhere;
}
:deep(.p-button) {
  padding: 2px 0;
  width: 2rem;
}
</style>
