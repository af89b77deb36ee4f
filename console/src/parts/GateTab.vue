<script setup lang="ts">
import Button from 'primevue/button'
import Select from 'primevue/select'
import { computed, onMounted, ref, shallowRef, watch } from 'vue'

import { api, problemOf, result, type Check, type EnvironmentStatus } from '../api'
import FreezeDialog from '../dialogs/FreezeDialog.vue'
import ReasonDialog from '../dialogs/ReasonDialog.vue'
import { checkTitles } from '../labels'
import { useLook } from '../look'
import { useSources } from '../sources'
import GateList from './GateList.vue'
import ProblemNote from './ProblemNote.vue'
import ScheduledList from './ScheduledList.vue'

/** What the gate says to a promotion, and what people can add to it. */
const props = defineProps<{ environment: EnvironmentStatus }>()
const path = { lane: props.environment.lane, environment: props.environment.environment }

const { source, sources, release, fetchSources } = useSources(() => props.environment)
const {
  value: gate,
  problem,
  look,
} = useLook(() =>
  result(
    api.GET('/api/v1/lanes/{lane}/environments/{environment}/gate', {
      params: { path, query: { release: release.value } },
    }),
  ),
)
onMounted(async () => {
  await fetchSources().catch((error) => (problem.value = problemOf(error)))
  await look()
})
watch([source, () => props.environment.entries, () => props.environment.gate.map((c) => c.verdict).join()], () =>
  look(),
)

const approvals = computed(
  () => gate.value?.checks.some((c) => c.id === 'approvals' && c.verdict !== 'not asked') ?? false,
)
const asked = computed(() => approvals.value && release.value !== '')

const approveOpen = ref(false)
const backOpen = ref(false)
const withdrawOpen = ref(false)
const waiveOpen = ref(false)
const freezeOpen = ref(false)
const thawOpen = ref(false)
/** Where the freeze was set: a target of a fleet may be frozen with all of its environment. */
const frozen = computed(() => gate.value?.freeze?.environment ?? path.environment)
const waived = shallowRef<Check>()
const place = `${path.lane} / ${path.environment}`

async function approve(note: string) {
  await result(
    api.POST('/api/v1/lanes/{lane}/environments/{environment}/approvals', {
      params: { path },
      body: { release: release.value, note },
    }),
  )
  await look()
}
async function approveBack(note: string) {
  await result(
    api.POST('/api/v1/lanes/{lane}/environments/{environment}/approvals', {
      params: { path },
      body: { ways_back: true, note },
    }),
  )
  await look()
}
async function withdraw() {
  await result(
    api.POST('/api/v1/lanes/{lane}/environments/{environment}/approvals/withdrawal', {
      params: { path },
      body: { release: release.value },
    }),
  )
  await look()
}
async function waive(reason: string) {
  await result(
    api.POST('/api/v1/lanes/{lane}/environments/{environment}/waivers', {
      params: { path },
      body: { check: waived.value?.id ?? '', release: release.value, reason },
    }),
  )
  await look()
}
async function thaw(reason: string) {
  await result(
    api.POST('/api/v1/lanes/{lane}/environments/{environment}/thaw', {
      params: { path: { ...path, environment: frozen.value } },
      body: { reason },
    }),
  )
  await look()
}
</script>

<template>
  <div class="stack">
    <div class="row">
      <label class="row"
        ><span>To promote</span
        ><Select
          v-model="source"
          name="gate-release"
          :options="sources"
          option-label="label"
          option-value="value"
          size="small"
          class="source"
      /></label>
      <span class="grow" />
      <Button v-if="asked" label="Approve…" icon="pi pi-thumbs-up" size="small" outlined @click="approveOpen = true" />
      <Button
        v-if="asked"
        label="Take approval back…"
        size="small"
        text
        severity="secondary"
        @click="withdrawOpen = true"
      />
      <Button
        v-if="approvals"
        label="Approve ways back…"
        size="small"
        text
        severity="secondary"
        @click="backOpen = true"
      />
      <Button
        v-if="gate?.freeze"
        label="Thaw…"
        icon="pi pi-sun"
        size="small"
        text
        severity="secondary"
        @click="thawOpen = true"
      />
      <Button label="Freeze…" icon="pi pi-lock" size="small" text severity="secondary" @click="freezeOpen = true" />
    </div>
    <ProblemNote v-if="problem" :problem="problem" />
    <template v-if="gate">
      <GateList :checks="gate.checks" :tolerated="gate.gate === 'clear'" fold>
        <template #default="{ check }">
          <Button
            v-if="gate.waivable.includes(check.id)"
            label="Waive…"
            size="small"
            text
            severity="secondary"
            @click="((waived = check), (waiveOpen = true))"
          />
        </template>
      </GateList>
      <p v-for="note in gate.notes" :key="note" class="note warn">
        <i class="pi pi-exclamation-circle" aria-hidden="true" /> {{ note }}
      </p>
    </template>
    <ScheduledList :environment="environment" />

    <ReasonDialog
      v-model:open="approveOpen"
      :title="`Approve release ${release} for ${place}`"
      :confirm="`Approve release ${release}`"
      asks="What did you check? (optional)"
      optional
      :act="approve"
    >
      <p>
        You approve of exactly what the tab <b>Preview</b> of the promotion shows now. Your approval lapses when the
        plan changes. The person who asks for the promotion cannot approve it.
      </p>
    </ReasonDialog>
    <ReasonDialog
      v-model:open="backOpen"
      :title="`Approve the ways back on ${place}`"
      confirm="Approve the ways back"
      asks="What did you check? (optional)"
      optional
      :act="approveBack"
    >
      <p>
        A way back that came after its step was approved runs only once it is approved itself. You approve of those of
        the steps in place, as <b>Roll back</b> shows them now.
      </p>
    </ReasonDialog>
    <ReasonDialog
      v-model:open="withdrawOpen"
      :title="`Take your approval of release ${release} back`"
      confirm="Take it back"
      asks="Why? (optional; for yourself)"
      optional
      :act="withdraw"
    >
      <p>
        Your approval of release <b>{{ release }}</b> for <b>{{ place }}</b> does not count any more.
      </p>
    </ReasonDialog>
    <ReasonDialog
      v-model:open="waiveOpen"
      :title="`Waive ${checkTitles[waived?.id ?? ''] ?? ''} on ${place}`"
      :confirm="`Waive it for one deployment`"
      asks="Why? Your reason is kept in the target's ledger."
      :act="waive"
    >
      <p>{{ waived?.evidence }}</p>
      <p>
        The check lets the next deployment of <b>{{ release ? `release ${release}` : 'loose steps' }}</b> pass, once,
        within 24 hours.
      </p>
    </ReasonDialog>
    <ReasonDialog
      v-model:open="thawOpen"
      :title="`Thaw ${path.lane} / ${frozen}`"
      confirm="End its freezes"
      asks="Why may it end?"
      :act="thaw"
    >
      <p>
        All freezes of <b>{{ path.lane }} / {{ frozen }}</b> end, also those to come.
      </p>
    </ReasonDialog>
    <FreezeDialog v-model:open="freezeOpen" :environment="environment" @done="look" />
  </div>
</template>

<style scoped>
.source {
  min-width: 300px;
}
.note {
  margin: 0;
}
</style>
