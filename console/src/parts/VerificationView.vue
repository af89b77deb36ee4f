<script setup lang="ts">
import { computed } from 'vue'

import type { Verification } from '../api'
import { deviationTitles, plural } from '../labels'
import { moment } from '../time'
import RemedyList from './RemedyList.vue'

/** What a verification of an environment, or of the targets of a fleet, found. */
const props = defineProps<{ verification: Verification; fleet?: boolean }>()

const consistent = computed(() => props.verification.environments.length - props.verification.uncompared.length)
/** Places where something is that has no history, and those where nothing is yet. */
const existing = computed(() => props.verification.empty.filter((e) => e.remedies.length))
const without = computed(() => props.verification.empty.filter((e) => !e.remedies.length).map((e) => e.environment))
/** So many places are named. */
const most = 5
/** A place is named where there may be several. */
const named = (place: string) => (props.fleet ? `${place}: ` : '')
</script>

<template>
  <div class="stack">
    <p v-if="!verification.deviations.length && consistent > 0" class="good">
      The history is consistent{{ fleet ? ` on ${plural(consistent, 'target')}` : '' }}: chain, last seen entry,
      checksums, order, and with the environment before.
    </p>
    <p v-for="u in verification.unreached" :key="u.environment" class="panel">
      <strong class="bad">{{ named(u.environment) }}not reached, so nothing was compared:</strong> {{ u.message }}
    </p>
    <p v-for="u in verification.uncompared" :key="u.environment" class="panel">
      <strong class="bad">{{ named(u.environment) }}not compared with the environment before:</strong>
      {{ u.before }} was not reached.
    </p>
    <p v-if="without.length" class="panel">
      <strong>Nothing was verified{{ fleet ? ` on ${plural(without.length, 'target')}` : '' }}:</strong>
      there is no history yet<template v-if="fleet">
        on {{ without.slice(0, most).join(', ')
        }}<template v-if="without.length > most"> and {{ without.length - most }} more</template></template
      >.
    </p>
    <div v-for="e in existing" :key="e.environment" class="panel">
      <p>
        <strong class="bad">{{ named(e.environment) }}nothing was verified:</strong>
        {{ e.message }}
      </p>
      <RemedyList :remedies="e.remedies" />
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
