<script setup lang="ts">
import { computed } from 'vue'
import { RouterLink } from 'vue-router'

import type { EnvironmentStatus } from '../api'
import { labels, plural } from '../labels'
import { isOld, isUnknown, oddOf, stateOf } from '../state'
import { ago, moment } from '../time'
import StateMark from './StateMark.vue'

const props = defineProps<{ environment: EnvironmentStatus }>()

const state = computed(() => stateOf(props.environment))
const deployment = computed(() => {
  const { fleet, running, last } = props.environment
  const of = fleet ? (fleet.running ?? fleet.last) : (running ?? last)
  return of && { name: fleet ? `F${of.id}` : `${of.id}`, outcome: of.outcome, started: of.started_at }
})
const pending = computed(() => {
  const { fleet, pending: n } = props.environment
  const first = fleet?.groups[0]?.targets.length ?? 0
  return (n ? `${n} ${labels.pending}` : 'nothing pending') + (odd.value ? ` on ${first}` : '')
})
const odd = computed(() => oddOf(props.environment.fleet))
</script>

<template>
  <RouterLink
    :to="`/lanes/${environment.lane}/${environment.environment}`"
    class="card"
    :class="{ wrong: environment.trouble.length > 0 }"
  >
    <span class="row head">
      <strong class="grow"
        >{{ environment.environment
        }}<span v-if="environment.fleet" class="soft">
          · {{ plural(environment.fleet.targets, 'target') }}</span
        ></strong
      >
      <StateMark :word="state" />
    </span>
    <span class="at" :class="{ soft: !environment.at }">
      <template v-if="isUnknown(environment)">its target has not answered yet</template>
      <template v-else-if="!environment.reached">?</template>
      <template v-else-if="environment.at"
        ><b>{{ environment.at }}</b> {{ environment.at_slug }}</template
      >
      <template v-else>{{ labels.nothingApplied }}</template>
    </span>
    <span class="small row foot">
      <span v-if="environment.reached" :class="environment.pending ? 'warn' : 'soft'">{{ pending }}</span>
      <span v-if="odd" class="bad">{{ odd }} odd</span>
      <span v-if="environment.baseline" class="soft">baseline {{ environment.baseline }}</span>
      <span class="grow" />
      <span v-if="deployment" class="soft">
        deployment {{ deployment.name }} {{ deployment.outcome }}, {{ ago(deployment.started) }}
      </span>
      <span v-else-if="!isUnknown(environment)" class="soft">never deployed</span>
    </span>
    <span v-if="isOld(environment)" class="small soft"
      >as it was at {{ moment(environment.read_at) }}; its target is being read</span
    >
    <span v-if="environment.running" class="small warn"
      >{{ plural(environment.running.planned, 'step') }} by {{ environment.running.actor }}</span
    >
  </RouterLink>
</template>

<style scoped>
.card {
  display: flex;
  flex-direction: column;
  gap: 5px;
  color: var(--ink);
  background: var(--surface);
  border: 1px solid var(--line);
  border-top: 3px solid var(--line);
  border-radius: var(--round);
  padding: 10px 12px;
}
.card:hover {
  text-decoration: none;
  border-color: var(--accent);
}
.wrong,
.wrong:hover {
  border-top-color: var(--bad);
}
.head,
.foot {
  gap: 8px;
}
.at {
  font-size: 15px;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
</style>
