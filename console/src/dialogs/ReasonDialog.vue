<script setup lang="ts">
import InputText from 'primevue/inputtext'
import { ref, watch } from 'vue'

import ActDialog from './ActDialog.vue'

/** Says what will happen, and asks for words about it. */
const props = defineProps<{
  title: string
  confirm: string
  asks: string
  optional?: boolean
  act: (words: string) => Promise<void>
}>()
const open = defineModel<boolean>('open', { required: true })
const words = ref('')
watch(open, () => (words.value = ''))
</script>

<template>
  <ActDialog
    v-model:open="open"
    :title="title"
    :confirm="confirm"
    :ready="optional || !!words.trim()"
    :act="() => props.act(words.trim())"
  >
    <slot />
    <label class="stack words"
      ><span class="small">{{ asks }}</span
      ><InputText v-model="words" name="words" :required="!optional"
    /></label>
  </ActDialog>
</template>

<style scoped>
.words {
  gap: 4px;
}
</style>
