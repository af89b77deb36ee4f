<script setup lang="ts">
import { computed } from 'vue'

import type { Verification } from '../api'
import { deviationTitles, plural } from '../labels'
import { moment } from '../time'
import { some, together, type Told } from '../together'
import RemedyList from './RemedyList.vue'

/** What a verification of an environment, or of the targets of a fleet, found. */
const props = defineProps<{ verification: Verification; fleet?: boolean }>()

const consistent = computed(() => props.verification.environments.length - props.verification.uncompared.length)
const unreached = computed(() =>
  together(
    props.verification.unreached,
    (u) => u.remedies,
    (u) => u.message,
  ),
)
const uncompared = computed(() =>
  together(
    props.verification.uncompared,
    (u) => u.before,
    (u) => u.before,
  ),
)
/** Places where something is that has no history, and those where nothing is yet. */
const existing = computed(() =>
  together(
    props.verification.empty.filter((e) => e.remedies.length),
    (e) => e.remedies,
    (e) => e.message,
  ),
)
const without = computed(() => props.verification.empty.filter((e) => !e.remedies.length).map((e) => e.environment))
const deviations = computed(() =>
  together(
    props.verification.deviations,
    (d) => [d.kind, d.step, d.what, d.remedies],
    (d) => d.what,
  ),
)

/** A place is named where there may be several. */
function named(places: string[]) {
  if (!props.fleet) return ''
  return places.length === 1 ? `${some(places)}: ` : `${plural(places.length, 'target')} (${some(places)}): `
}
/** Whose words are shown, where those of others differ. */
const example = (t: Told<{ environment: string }>) => (t.example ? `${some(t.places.slice(0, 1))}: ` : '')
</script>

<template>
  <div class="stack">
    <p v-if="!verification.deviations.length && consistent > 0" class="good">
      The history is consistent{{ fleet ? ` on ${plural(consistent, 'target')}` : '' }}: chain, last seen entry,
      checksums, order, and with the environment before.
    </p>
    <p v-for="t in unreached" :key="t.places[0]" class="panel">
      <strong class="bad">{{ named(t.places) }}not reached, so nothing was compared:</strong>
      {{ example(t) }}{{ t.first.message }}
    </p>
    <p v-for="t in uncompared" :key="t.places[0]" class="panel">
      <strong class="bad">{{ named(t.places) }}not compared with the environment before:</strong>
      {{ t.first.before }} was not reached.
    </p>
    <p v-if="without.length" class="panel">
      <strong>Nothing was verified{{ fleet ? ` on ${plural(without.length, 'target')}` : '' }}:</strong>
      there is no history yet{{ fleet ? ` on ${some(without)}` : '' }}.
    </p>
    <div v-for="t in existing" :key="t.places[0]" class="panel">
      <p>
        <strong class="bad">{{ named(t.places) }}nothing was verified:</strong>
        {{ example(t) }}{{ t.first.message }}
      </p>
      <RemedyList :remedies="t.first.remedies" />
    </div>
    <div v-for="(t, i) in deviations" :key="i" class="panel">
      <p>
        <strong class="bad">{{ named(t.places) }}{{ deviationTitles[t.first.kind] }}:</strong> {{ t.first.what }}
        <span v-if="t.first.since && t.places.length === 1" class="soft small"
          >since {{ moment(t.first.since) }} UTC</span
        >
      </p>
      <RemedyList :remedies="t.first.remedies" />
    </div>
  </div>
</template>
