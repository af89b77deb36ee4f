<script setup lang="ts">
import { RouterLink } from 'vue-router'

import { api, result } from '../api'
import { usePolled } from '../poll'
import { ago, moment } from '../time'
import FleetCounts from './FleetCounts.vue'
import StateMark from './StateMark.vue'

/** The newest deployments to fleets; nothing where there was none. */
const props = defineProps<{ lane?: string; environment?: string }>()
const { value: list } = usePolled(() =>
  result(
    api.GET('/api/v1/fleet-deployments', {
      params: {
        query: {
          limit: 5,
          ...(props.lane && { lane: props.lane }),
          ...(props.environment && { environment: props.environment }),
        },
      },
    }),
  ),
)
</script>

<template>
  <section v-if="list?.deployments.length" class="stack tight">
    <h2>To fleets</h2>
    <div v-for="f in list.deployments" :key="f.id" class="row line">
      <RouterLink :to="`/fleet-deployments/${f.id}`"
        ><b>F{{ f.id }}</b></RouterLink
      >
      <RouterLink v-if="!lane" :to="`/lanes/${f.lane}/${f.environment}`">{{ f.lane }} / {{ f.environment }}</RouterLink>
      <StateMark :word="f.outcome === 'running' && f.paused ? 'paused' : f.outcome" />
      <span>{{ f.direction }}</span>
      <FleetCounts :counts="f.counts" class="grow" />
      <span class="small soft" :title="moment(f.started_at)">{{ ago(f.started_at) }} by {{ f.actor }}</span>
    </div>
  </section>
</template>

<style scoped>
.tight {
  gap: 6px;
}
.line {
  border-bottom: 1px solid var(--line);
  padding-bottom: 4px;
}
</style>
