<script setup lang="ts">
import type { Verification } from '../api'
import { deviationTitles, plural } from '../labels'
import { moment } from '../time'
import RemedyList from './RemedyList.vue'

/** What a verification of an environment, or of the targets of a fleet, found. */
const props = defineProps<{ verification: Verification; fleet?: boolean }>()

const consistent = () => props.verification.environments.length - props.verification.uncompared.length
/** A place is named where there may be several. */
const named = (place: string) => (props.fleet ? `${place}: ` : '')
</script>

<template>
  <div class="stack">
    <p v-if="!verification.deviations.length && consistent() > 0" class="good">
      The history is consistent{{ fleet ? ` on ${plural(consistent(), 'target')}` : '' }}: chain, last seen entry,
      checksums, order, and with the environment before.
    </p>
    <p v-for="u in verification.unreached" :key="u.environment" class="panel">
      <strong class="bad">{{ named(u.environment) }}not reached, so nothing was compared:</strong> {{ u.message }}
    </p>
    <p v-for="u in verification.uncompared" :key="u.environment" class="panel">
      <strong class="bad">{{ named(u.environment) }}not compared with the environment before:</strong>
      {{ u.before }} was not reached.
    </p>
    <div v-for="e in verification.empty" :key="e.environment" class="panel">
      <p>{{ named(e.environment) }}{{ e.message }}</p>
      <RemedyList v-if="e.remedies.length" :remedies="e.remedies" />
    </div>
    <div v-for="(d, i) in verification.deviations" :key="i" class="panel">
      <p>
        <strong class="bad">{{ named(d.environment) }}{{ deviationTitles[d.kind] }}:</strong> {{ d.what }}
        <span v-if="d.since" class="soft small">since {{ moment(d.since) }} UTC</span>
      </p>
      <RemedyList :remedies="d.remedies" />
    </div>
  </div>
</template>
