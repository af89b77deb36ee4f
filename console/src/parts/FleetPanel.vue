<script setup lang="ts">
import Button from 'primevue/button'
import { computed, ref } from 'vue'
import { RouterLink } from 'vue-router'

import { api, result, type EnvironmentStatus } from '../api'
import { labels, placeName, plural } from '../labels'
import { oddOf, stateOf } from '../state'
import { ago, moment } from '../time'
import FleetCounts from './FleetCounts.vue'
import StateMark from './StateMark.vue'

/** The targets of a fleet: which agree, and which are odd. */
const props = defineProps<{ environment: EnvironmentStatus }>()
const emit = defineEmits<{ done: [] }>()

const fleet = computed(() => props.environment.fleet!)
const odd = computed(() => oddOf(fleet.value))
const deployment = computed(() => fleet.value.running ?? fleet.value.last)

const link = (target: string) => `/lanes/${props.environment.lane}/${placeName(props.environment.environment, target)}`

/** So many targets of a group are shown until all are asked for. */
const first = 40
const all = ref<Record<number, boolean>>({})

async function takeBack(target: string) {
  await result(
    api.DELETE('/api/v1/lanes/{lane}/environments/{environment}/aside', {
      params: { path: { lane: props.environment.lane, environment: placeName(props.environment.environment, target) } },
    }),
  )
  emit('done')
}
</script>

<template>
  <div class="stack">
    <p>
      <b>{{ plural(fleet.targets, 'target') }}</b><template v-if="odd"
        >: {{ fleet.groups[0]?.targets.length }} agree,
        <b class="bad">{{ odd }} {{ odd === 1 ? 'is' : 'are' }} odd</b></template
      ><template v-else-if="fleet.groups.length">, all of which agree</template
      ><template v-if="fleet.aside.length">; {{ fleet.aside.length }} set aside</template>.
      <template v-if="deployment">
        {{ fleet.running ? 'Running' : 'Last' }}:
        <RouterLink :to="`/fleet-deployments/${deployment.id}`">deployment F{{ deployment.id }}</RouterLink>
        {{ deployment.outcome }}, {{ ago(deployment.started_at) }}
        <FleetCounts :counts="deployment.counts" />
      </template>
    </p>
    <section v-for="(g, i) in fleet.groups" :key="i" class="panel group" :class="{ odd: i > 0 }">
      <p class="row">
        <b>{{ plural(g.targets.length, 'target') }}</b>
        <StateMark :word="stateOf(g)" />
        <span v-if="g.reached"
          >at <b>{{ g.at ?? 'nothing' }}</b> {{ g.at_slug?.replaceAll('-', ' ') }}</span
        >
        <span v-if="g.pending" class="warn">{{ g.pending }} pending</span>
        <span v-if="g.gate" class="soft">gate {{ g.gate }}</span>
      </p>
      <p v-for="t in g.trouble" :key="t.kind + t.step" class="small bad">{{ t.message }}</p>
      <ul class="targets">
        <li v-for="t in all[i] ? g.targets : g.targets.slice(0, first)" :key="t">
          <RouterLink :to="link(t)">{{ t }}</RouterLink>
        </li>
        <li v-if="g.targets.length > first && !all[i]">
          <Button
            :label="`${g.targets.length - first} more`"
            size="small"
            text
            severity="secondary"
            class="more"
            @click="all[i] = true"
          />
        </li>
      </ul>
    </section>
    <section v-for="a in fleet.aside" :key="a.target" class="panel row">
      <RouterLink :to="link(a.target)">{{ a.target }}</RouterLink>
      <span class="grow"
        >is set aside by {{ a.by }} since {{ moment(a.at) }} UTC: {{ a.reason }}. Deployments to
        {{ environment.environment }} and gates pass over it.</span
      >
      <Button :label="labels.takeBack" size="small" severity="secondary" outlined @click="takeBack(a.target)" />
    </section>
  </div>
</template>

<style scoped>
.group {
  display: flex;
  flex-direction: column;
  gap: 6px;
}
.odd {
  border-left: 4px solid var(--bad);
}
.targets {
  display: flex;
  flex-wrap: wrap;
  gap: 4px 14px;
  margin: 0;
  padding: 0;
  list-style: none;
}
.more {
  padding: 0 6px;
}
</style>
