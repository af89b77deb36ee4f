<script setup lang="ts">
import { computed } from 'vue'

import type { Check } from '../api'
import { checkTitles, labels } from '../labels'
import StateMark from './StateMark.vue'

const props = defineProps<{ checks: Check[]; holdsOnly?: boolean }>()

const shown = computed(() => (props.holdsOnly ? props.checks.filter((c) => c.verdict === 'hold') : props.checks))
const held = computed(() => props.checks.some((c) => c.verdict === 'hold'))
</script>

<template>
  <div class="stack gate">
    <strong :class="held ? 'bad' : 'good'">{{ held ? labels.held : labels.clear }}</strong>
    <div v-for="c in shown" :key="c.id" class="check">
      <StateMark :word="c.verdict" />
      <span class="title">{{ checkTitles[c.id] ?? c.id }}</span>
      <span class="grow">
        {{ c.evidence }}
        <span v-if="c.turn" class="small turn">→ {{ c.turn }}</span>
      </span>
    </div>
  </div>
</template>

<style scoped>
.gate { gap: 8px; }
.check { display: flex; gap: 10px; align-items: flex-start; overflow-wrap: anywhere; }
.title { width: 140px; flex: none; font-weight: 600; }
.turn { display: block; }
</style>
