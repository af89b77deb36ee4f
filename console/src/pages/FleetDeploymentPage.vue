<script setup lang="ts">
import Button from 'primevue/button'
import Skeleton from 'primevue/skeleton'
import { computed, ref } from 'vue'
import { RouterLink } from 'vue-router'

import { api, problemOf, result, type FleetTarget, type Problem } from '../api'
import ActDialog from '../dialogs/ActDialog.vue'
import { useFleet } from '../follow'
import { labels, placeName, plural, targetOf } from '../labels'
import FleetCounts from '../parts/FleetCounts.vue'
import ProgressRow from '../parts/ProgressRow.vue'
import ProblemNote from '../parts/ProblemNote.vue'
import StateMark from '../parts/StateMark.vue'
import { moment, took } from '../time'
import { together } from '../together'

const props = defineProps<{ id: number }>()
const params = { path: { fleet: props.id } }
const { value: fleet, problem } = useFleet(props.id)

const running = computed(() => fleet.value?.outcome === 'running')
const said = ref<Problem>()
async function steer(to: 'pause' | 'resumption') {
  said.value = undefined
  try {
    await result(
      to === 'pause'
        ? api.POST('/api/v1/fleet-deployments/{fleet}/pause', { params })
        : api.POST('/api/v1/fleet-deployments/{fleet}/resumption', { params }),
    )
  } catch (error) {
    said.value = problemOf(error)
  }
}
const stopping = ref(false)
async function stop() {
  await result(api.POST('/api/v1/fleet-deployments/{fleet}/cancellation', { params }))
}

const targets = computed(() => fleet.value?.targets ?? [])
const changed = computed(() => targets.value.filter((t) => t.wave > 0))
const ended = computed(() => changed.value.filter((t) => t.stand !== 'waiting' && t.stand !== 'running').length)
const exceptions = computed(() => targets.value.filter((t) => !['waiting', 'running', 'done'].includes(t.stand)))
/** Exceptions with the same reason stand together. */
const reasons = computed(() =>
  together(
    exceptions.value.map((t) => ({ ...t, environment: place(t) })),
    (t) => [t.stand, t.message],
    (t) => t.message ?? '',
  ),
)
const waves = computed(() => {
  const list: { name: string; targets: FleetTarget[] }[] = []
  for (const t of changed.value) {
    while (list.length < t.wave) {
      const n = list.length + 1
      list.push({ name: n === 1 && (fleet.value?.waves.canary ?? 0) > 0 ? 'Canary' : `Wave ${n}`, targets: [] })
    }
    list[t.wave - 1]?.targets.push(t)
  }
  return list
})
const untouched = computed(() => targets.value.filter((t) => t.wave === 0 && t.stand === 'done').length)
const place = (t: FleetTarget) => placeName(fleet.value?.environment ?? '', t.target)
const link = (t: FleetTarget) =>
  t.deployment ? `/deployments/${t.deployment}` : `/lanes/${fleet.value?.lane}/${place(t)}`
const lasted = (t: FleetTarget) =>
  t.began_at && t.ended_at ? took(Date.parse(t.ended_at) - Date.parse(t.began_at)) : ''
</script>

<template>
  <div class="stack">
    <ProblemNote v-if="problem" :problem="problem" />
    <Skeleton v-else-if="!fleet" height="160px" />
    <template v-if="fleet">
      <div class="row">
        <h1>Deployment F{{ id }}</h1>
        <StateMark :word="running && fleet.paused ? 'paused' : fleet.outcome" />
        <RouterLink :to="`/lanes/${fleet.lane}/${fleet.environment}`"
          >{{ fleet.lane }} / {{ fleet.environment }}</RouterLink
        >
        <span class="grow" />
        <template v-if="running">
          <Button
            v-if="fleet.paused"
            :label="labels.resume"
            icon="pi pi-play"
            size="small"
            @click="steer('resumption')"
          />
          <Button
            v-else
            :label="labels.pause"
            icon="pi pi-pause"
            size="small"
            severity="secondary"
            outlined
            @click="steer('pause')"
          />
          <Button
            :label="labels.stop + '…'"
            icon="pi pi-stop"
            size="small"
            severity="danger"
            outlined
            @click="stopping = true"
          />
        </template>
      </div>
      <ProblemNote v-if="said" :problem="said" />
      <p class="soft">
        {{ fleet.direction === 'back' ? 'Back' : 'Forward'
        }}<template v-if="fleet.release">
          to release <b>{{ fleet.release }}</b></template
        >, started by <b>{{ fleet.actor }}</b> at {{ moment(fleet.started_at) }} UTC; {{ fleet.waves.at_once }} at once,
        {{ plural(fleet.waves.tolerate ?? 0, 'exception') }} tolerated<template v-if="fleet.ended_at"
          >; took {{ took(Date.parse(fleet.ended_at) - Date.parse(fleet.started_at)) }}</template
        >
      </p>
      <p v-if="running && fleet.cancel" class="panel warn">{{ fleet.cancel }} cancelled it; it is ending.</p>
      <p v-else-if="running && fleet.paused" class="panel warn">
        {{ fleet.paused }} paused it: no further target begins.
      </p>
      <p v-if="fleet.message" class="panel bad">{{ fleet.message }}.</p>
      <ProgressRow :done="ended" :of="changed.length" noun="target" />
      <p><FleetCounts :counts="fleet.counts" /></p>
      <section v-if="exceptions.length" class="stack tight">
        <h2>{{ plural(exceptions.length, 'target') }} without what was asked for</h2>
        <div v-for="r in reasons" :key="r.first.target" class="panel exception">
          <p class="row">
            <b>{{ r.places.length === 1 ? r.first.target : plural(r.places.length, 'target') }}</b>
            <StateMark :word="r.first.stand" />
            <template v-if="r.places.length === 1">
              <span class="grow" />
              <RouterLink v-if="r.first.deployment" :to="link(r.first)">deployment {{ r.first.deployment }}</RouterLink>
              <RouterLink :to="`/lanes/${fleet.lane}/${place(r.first)}`">how it stands</RouterLink>
            </template>
          </p>
          <p v-if="r.first.message" class="small">{{ r.first.message }}</p>
          <p v-if="r.places.length > 1" class="names small">
            <RouterLink v-for="name in r.places" :key="name" :to="`/lanes/${fleet.lane}/${name}`">{{
              targetOf(name)
            }}</RouterLink>
          </p>
        </div>
      </section>
      <section v-for="w in waves" :key="w.name" class="stack tight">
        <h2>
          {{ w.name }} <span class="soft small">{{ plural(w.targets.length, 'target') }}</span>
        </h2>
        <ul class="targets">
          <li v-for="t in w.targets" :key="t.target" class="panel" :class="t.stand.replace(' ', '-')">
            <RouterLink :to="link(t)">{{ t.target }}</RouterLink>
            <StateMark :word="t.stand" />
            <span class="small soft">{{ lasted(t) }}</span>
          </li>
        </ul>
      </section>
      <p v-if="untouched" class="soft small">
        {{ plural(untouched, 'target') }} had everything already, and {{ untouched === 1 ? 'was' : 'were' }} not
        touched.
      </p>
      <ActDialog
        v-model:open="stopping"
        :title="`${labels.stop} F${id}`"
        :act="stop"
        ready
        severity="danger"
        :confirm="`${labels.stop} to ${fleet.environment}`"
      >
        <p>
          The deployments that are under way on targets of <b>{{ fleet.lane }} / {{ fleet.environment }}</b> are
          cancelled, and no further one begins. What is applied stays. The same promotion goes on from there later.
        </p>
      </ActDialog>
    </template>
  </div>
</template>

<style scoped>
.tight {
  gap: 6px;
}
.targets {
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(230px, 1fr));
  gap: 6px;
  margin: 0;
  padding: 0;
  list-style: none;
}
.targets li {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 4px 8px;
  padding: 5px 10px;
}
.names {
  display: flex;
  flex-wrap: wrap;
  gap: 4px 14px;
  max-height: 30vh;
  overflow: auto;
}
.exception {
  border-left: 4px solid var(--bad);
}
h2 .small {
  font-weight: 400;
}
</style>
