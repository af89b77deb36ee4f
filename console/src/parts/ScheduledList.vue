<script setup lang="ts">
import Button from 'primevue/button'
import { computed } from 'vue'
import { RouterLink } from 'vue-router'

import { api, result, type EnvironmentStatus } from '../api'
import { useAct } from '../look'
import { usePages } from '../pages'
import { moment } from '../time'
import PagedList from './PagedList.vue'
import ProblemNote from './ProblemNote.vue'
import StateMark from './StateMark.vue'

/** The promotions to an environment that wait for their time, and what became of others, page by page. */
const props = defineProps<{ environment: EnvironmentStatus }>()
const { value, pages, refresh } = usePages((search, from?: number) =>
  result(
    api.GET('/api/v1/lanes/{lane}/scheduled', {
      params: {
        path: { lane: props.environment.lane },
        query: { environment: props.environment.environment, limit: 6, search, before: from ?? 0 },
      },
    }),
  ),
)
const { asked, newer } = pages
const here = computed(() => value.value?.scheduled ?? [])
const { problem, now } = useAct()

const drop = (id: number) =>
  now(async () => {
    await result(
      api.DELETE('/api/v1/lanes/{lane}/environments/{environment}/scheduled/{scheduled}', {
        params: { path: { lane: props.environment.lane, environment: props.environment.environment, scheduled: id } },
      }),
    )
    await refresh()
  })
</script>

<template>
  <section v-if="here.length || asked || newer" class="stack scheduled" aria-label="Scheduled promotions">
    <h2>Scheduled promotions</h2>
    <ProblemNote v-if="problem" :problem="problem" />
    <PagedList :pages="pages" name="scheduled promotions" within="release, maker, state or message">
      <div v-for="k in here" :key="k.id" class="row">
        <StateMark :word="k.state" />
        <span
          ><b>{{ k.release ? `release ${k.release}` : 'loose steps' }}</b> at {{ moment(k.at) }} UTC
          <span class="soft">by {{ k.actor }}</span></span
        >
        <RouterLink v-if="k.deployment" :to="`/deployments/${k.deployment}`">deployment {{ k.deployment }}</RouterLink>
        <span v-else class="small soft grow">{{ k.state === 'dropped' ? 'dropped ' : '' }}{{ k.message }}</span>
        <Button v-if="k.state === 'waiting'" label="Drop" size="small" text severity="secondary" @click="drop(k.id)" />
      </div>
      <p v-if="!here.length" class="soft">No scheduled promotion matches.</p>
    </PagedList>
  </section>
</template>

<style scoped>
.scheduled {
  gap: 6px;
  margin-top: var(--gap);
}
h2 {
  font-size: 15px;
}
</style>
