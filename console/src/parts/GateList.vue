<script setup lang="ts">
import { computed } from 'vue'

import type { Check } from '../api'
import { checkTitles, labels } from '../labels'
import RemedyList from './RemedyList.vue'
import StateMark from './StateMark.vue'

/**
 * The checks of a gate: all, only those that hold, or with what is not asked folded into a line. Of a fleet a deployment
 * may begin although some hold for so many targets as are tolerated.
 */
const props = defineProps<{ checks: Check[]; holdsOnly?: boolean; fold?: boolean; tolerated?: boolean }>()

const holds = computed(() => props.checks.filter((c) => c.verdict === 'hold'))
const said = computed(() => (!holds.value.length ? 'clear' : props.tolerated ? 'tolerated' : 'held'))
const asked = computed(() => props.checks.filter((c) => c.verdict !== 'not asked'))
const shown = computed(() =>
  props.holdsOnly
    ? holds.value
    : props.fold
      ? [...holds.value, ...asked.value.filter((c) => c.verdict !== 'hold')]
      : props.checks,
)
const folded = computed(() => (props.fold ? props.checks.filter((c) => c.verdict === 'not asked') : []))
</script>

<template>
  <div class="stack gate">
    <strong :class="{ clear: 'good', tolerated: 'warn', held: 'bad' }[said]">{{ labels[said] }}</strong>
    <div v-for="c in shown" :key="c.id" class="check">
      <StateMark :word="c.verdict" />
      <span class="title">{{ checkTitles[c.id] ?? c.id }}</span>
      <span class="grow">
        {{ c.evidence }}
        <RemedyList v-if="c.remedies?.length" :remedies="c.remedies" />
      </span>
      <slot :check="c" />
    </div>
    <p v-if="folded.length" class="small soft">
      Not asked: {{ folded.map((c) => checkTitles[c.id] ?? c.id).join(', ') }}
    </p>
  </div>
</template>

<style scoped>
.gate {
  gap: 8px;
}
.check {
  display: flex;
  gap: 10px;
  align-items: flex-start;
  overflow-wrap: anywhere;
}
.title {
  width: 140px;
  flex: none;
  font-weight: 600;
}
</style>
