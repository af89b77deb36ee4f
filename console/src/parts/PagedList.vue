<script setup lang="ts">
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import { ref } from 'vue'

import type { Pages } from '../pages'

/**
 * One page of a list: what it is searched for above it, where it says within what; the pages before and
 * after below it.
 */
const props = withDefaults(
  defineProps<{ pages: Pages; within?: string; name: string; newer?: string; older?: string; many?: boolean }>(),
  { newer: 'Newer', older: 'Older' },
)
const { asked, newer: before, older: after } = props.pages
const text = ref('')
</script>

<template>
  <form v-if="within && (asked || before || after || many)" class="row" @submit.prevent="pages.find(text)">
    <InputText
      v-model="text"
      :name="`search-${name}`"
      :placeholder="within"
      :aria-label="`Search the ${name}`"
      size="small"
      class="text"
    />
    <Button type="submit" label="Search" size="small" outlined severity="secondary" />
  </form>
  <slot :asked="asked" />
  <p v-if="before || after" class="row">
    <Button v-if="before" :label="newer" size="small" outlined severity="secondary" @click="pages.turn(false)" />
    <Button v-if="after" :label="older" size="small" outlined severity="secondary" @click="pages.turn(true)" />
  </p>
</template>

<style scoped>
.text {
  width: 24em;
}
</style>
