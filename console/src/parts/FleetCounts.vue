<script setup lang="ts">
import { computed } from 'vue'

/** How many targets of a fleet stand how in a deployment. */
const props = defineProps<{ counts: Record<string, number> }>()

const order = [
  ['running', 'warn'],
  ['done', 'good'],
  ['failed', 'bad'],
  ['backed out', 'bad'],
  ['held', 'bad'],
  ['away', 'bad'],
  ['interrupted', 'bad'],
  ['cancelled', 'warn'],
  ['waiting', 'soft'],
] as const
const shown = computed(() => order.filter(([word]) => (props.counts[word] ?? 0) > 0))
</script>

<template>
  <span class="counts"
    ><span v-for="[word, kind] in shown" :key="word" :class="kind">{{ counts[word] }} {{ word }}</span></span
  >
</template>

<style scoped>
.counts {
  display: inline-flex;
  flex-wrap: wrap;
  gap: 2px 12px;
}
</style>
