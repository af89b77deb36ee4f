<script setup lang="ts">
import { watch } from 'vue'
import { RouterLink } from 'vue-router'

import { api, result } from '../api'
import type { paths } from '../api/schema'
import { usePages } from '../pages'
import { ago, moment } from '../time'
import FleetCounts from './FleetCounts.vue'
import PagedList from './PagedList.vue'
import StateMark from './StateMark.vue'

/** Deployments to fleets that match, page by page; nothing where there is none. */
const props = defineProps<{ query: NonNullable<paths['/api/v1/fleet-deployments']['get']['parameters']['query']> }>()
const { value: list, pages } = usePages((_, from?: number) =>
  result(api.GET('/api/v1/fleet-deployments', { params: { query: { ...props.query, limit: 5, before: from ?? 0 } } })),
)
watch(
  () => props.query,
  () => pages.find(''),
)
</script>

<template>
  <section v-if="list?.deployments.length" class="stack tight">
    <h2>To fleets</h2>
    <PagedList :pages="pages" name="deployments to fleets">
      <div v-for="f in list.deployments" :key="f.id" class="row line">
        <RouterLink :to="`/fleet-deployments/${f.id}`"
          ><b>F{{ f.id }}</b></RouterLink
        >
        <RouterLink v-if="!query.lane" :to="`/lanes/${f.lane}/${f.environment}`"
          >{{ f.lane }} / {{ f.environment }}</RouterLink
        >
        <StateMark :word="f.outcome === 'running' && f.paused ? 'paused' : f.outcome" />
        <span>{{ f.direction }}</span>
        <FleetCounts :counts="f.counts" class="stand" />
        <span class="small soft" :title="moment(f.started_at)">{{ ago(f.started_at) }} by {{ f.actor }}</span>
      </div>
    </PagedList>
  </section>
</template>

<style scoped>
.tight {
  gap: 6px;
}
.stand {
  flex: 1 1 8em;
}
.line {
  border-bottom: 1px solid var(--line);
  padding-bottom: 4px;
}
</style>
