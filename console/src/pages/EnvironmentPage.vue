<script setup lang="ts">
import Button from 'primevue/button'
import Dialog from 'primevue/dialog'
import Skeleton from 'primevue/skeleton'
import Tab from 'primevue/tab'
import TabList from 'primevue/tablist'
import TabPanel from 'primevue/tabpanel'
import TabPanels from 'primevue/tabpanels'
import Tabs from 'primevue/tabs'
import { computed, ref, shallowRef, watch } from 'vue'
import { RouterLink } from 'vue-router'

import {
  api,
  problemOf,
  result,
  type EnvironmentStatus,
  type Ledger,
  type Preview,
  type Problem,
  type StepStatus,
  type StepTexts,
  type Trouble,
  type Verification,
} from '../api'
import ActDialog from '../dialogs/ActDialog.vue'
import AdoptDialog from '../dialogs/AdoptDialog.vue'
import AmendDialog from '../dialogs/AmendDialog.vue'
import AsideDialog from '../dialogs/AsideDialog.vue'
import AttestDialog from '../dialogs/AttestDialog.vue'
import BaselineDialog from '../dialogs/BaselineDialog.vue'
import PromoteDialog from '../dialogs/PromoteDialog.vue'
import RebuildDialog from '../dialogs/RebuildDialog.vue'
import RollbackDialog from '../dialogs/RollbackDialog.vue'
import SettleDialog from '../dialogs/SettleDialog.vue'
import { fleetOf, labels, plural, titled } from '../labels'
import { useLook } from '../look'
import { useNewest } from '../newest'
import DeploymentList from '../parts/DeploymentList.vue'
import DifferenceView from '../parts/DifferenceView.vue'
import FleetPanel from '../parts/FleetPanel.vue'
import GateTab from '../parts/GateTab.vue'
import LedgerTable from '../parts/LedgerTable.vue'
import PreviewList from '../parts/PreviewList.vue'
import RehearsalPanel from '../parts/RehearsalPanel.vue'
import ProblemNote from '../parts/ProblemNote.vue'
import SchemaTab from '../parts/SchemaTab.vue'
import SqlText from '../parts/SqlText.vue'
import StateMark from '../parts/StateMark.vue'
import StepTable from '../parts/StepTable.vue'
import TroubleRow from '../parts/TroubleRow.vue'
import VerificationView from '../parts/VerificationView.vue'
import { usePolled } from '../poll'
import { offers } from '../remedies'
import { isOld, isUnknown, stateOf } from '../state'
import { moment } from '../time'

const props = defineProps<{ lane: string; environment: string }>()
const path = { lane: props.lane, environment: props.environment }

const { value: status, problem, refresh } = usePolled(newest, (seen) => !!seen.reading)
function look(steps: 'open' | 'all', wait?: number) {
  return result(
    api.GET('/api/v1/lanes/{lane}/environments/{environment}', { params: { path, query: { steps, wait } } }),
  )
}
/** The page waits a second for the target. Where it is not read by then, its steps and its gate stay as they were shown. */
async function newest(): Promise<EnvironmentStatus> {
  const seen = await look('open', 1)
  if (!seen.reading || !status.value) return seen
  return { ...seen, steps: status.value.steps, gate: status.value.gate }
}
/** Nothing can be chosen before the steps were read. */
const unread = computed(() => !!status.value?.reading && !status.value.steps)

const tab = ref('steps')
const preview = shallowRef<Preview>()
const ledger = shallowRef<Ledger>()
const verification = shallowRef<Verification>()
const tabProblem = ref<Problem>()

// What a tab shows is fetched when it is opened, and again when the target has changed.
const question = useNewest()
watch([tab, () => status.value?.entries, () => status.value?.pending], async () => {
  tabProblem.value = undefined
  const isNewest = question()
  /** An answer that a newer question overtook is dropped. */
  const keep = <T,>(to: { value: T | undefined }, answer: T) => isNewest() && (to.value = answer)
  try {
    if (tab.value === 'preview')
      keep(
        preview,
        await result(
          api.GET('/api/v1/lanes/{lane}/environments/{environment}/preview', {
            params: { path, query: { limit: 50000 } },
          }),
        ),
      )
    if (tab.value === 'ledger')
      keep(
        ledger,
        await result(
          api.GET('/api/v1/lanes/{lane}/environments/{environment}/ledger', {
            params: { path, query: { limit: 2000 } },
          }),
        ),
      )
    if (tab.value === 'verify')
      keep(
        verification,
        await result(
          api.GET('/api/v1/lanes/{lane}/verification', {
            params: { path: { lane: props.lane }, query: { environment: props.environment } },
          }),
        ),
      )
  } catch (error) {
    if (isNewest()) tabProblem.value = problemOf(error)
  }
})

async function olderEntries() {
  const shown = ledger.value
  if (!shown?.next) return
  try {
    const older = await result(
      api.GET('/api/v1/lanes/{lane}/environments/{environment}/ledger', {
        params: { path, query: { limit: 2000, before: shown.next } },
      }),
    )
    if (ledger.value === shown) ledger.value = { ...older, entries: [...shown.entries, ...older.entries] }
  } catch (error) {
    tabProblem.value = problemOf(error)
  }
}

const dialog = ref<
  'promote' | 'rollback' | 'baseline' | 'settle' | 'amend' | 'attest' | 'rebuild' | 'withdraw' | 'adopt' | 'aside' | ''
>('')
function opened(name: typeof dialog.value) {
  return computed({ get: () => dialog.value === name, set: (on) => (dialog.value = on ? name : '') })
}
/** The status with all steps, for the dialogs that choose among them. */
const { value: whole, problem: wholeProblem, look: lookAtAll } = useLook(() => look('all'))
watch(dialog, (name) => (name === 'rollback' || name === 'baseline') && lookAtAll())
const promoteOpen = opened('promote')
const rollbackOpen = opened('rollback')
const baselineOpen = opened('baseline')
const settleOpen = opened('settle')
const amendOpen = opened('amend')
const attestOpen = opened('attest')
const rebuildOpen = opened('rebuild')
const withdrawOpen = opened('withdraw')
const adoptOpen = opened('adopt')
const asideOpen = opened('aside')
const fleet = fleetOf(props.environment)

const unknown = computed(() => status.value?.trouble.some((t) => t.kind === 'known-database') ?? false)
const doubtful = computed(() => status.value?.steps?.find((s) => s.state === 'in doubt')?.number ?? '')
const unfinished = computed(() => doubtful.value || (status.value?.steps?.find((s) => s.half_done)?.number ?? ''))
/** Whether anything is applied; of a fleet, on any target. */
const applied = computed(() => (status.value?.fleet?.groups ?? [status.value]).some((one) => !!one?.applied))
const waiting = computed(() =>
  (status.value?.steps ?? []).filter(
    (s) => ['pending', 'rolled back', 'failed'].includes(s.state) && !s.flags?.includes('not here'),
  ),
)
const attestFirst = ref('')
const attestable = computed(() => {
  const first = waiting.value.filter((s) =>
    attestFirst.value ? s.number === attestFirst.value : s.flags?.includes('late'),
  )
  return [...first, ...waiting.value.filter((s) => !first.includes(s))]
})

/** What a trouble's next move is, as a dialog of this page. */
function moveOf(t: Trouble): { label: string; dialog?: typeof dialog.value } | undefined {
  switch (t.kind) {
    case 'known-database':
      return status.value?.entries
        ? { label: labels.adopt, dialog: 'adopt' }
        : { label: labels.baseline, dialog: 'baseline' }
    case 'ledger-intact':
      return { label: labels.adopt, dialog: 'adopt' }
    case 'checksums':
      return { label: labels.amend, dialog: 'amend' }
    case 'order':
      return { label: labels.attest, dialog: 'attest' }
    case 'nothing-in-doubt':
      return doubtful.value
        ? { label: labels.settle, dialog: 'settle' }
        : { label: labels.rollBack, dialog: 'rollback' }
    case 'drift':
      return { label: labels.schema }
    case 'failed':
      return offers(t.remedies, 'attest')
        ? { label: labels.attest, dialog: 'attest' }
        : { label: labels.promote, dialog: 'promote' }
  }
}

function move(t: Trouble) {
  const next = moveOf(t)?.dialog
  if (!next) return (tab.value = 'schema')
  attestFirst.value = t.step ?? ''
  dialog.value = next
}

const texts = shallowRef<StepTexts>()
const textsOpen = ref(false)
const openedStep = shallowRef<StepStatus>()
const openedNewest = ref(false)
const withdrawable = computed(
  () => openedNewest.value && waiting.value.some((s) => s.number === openedStep.value?.number),
)
async function withdraw() {
  await result(
    api.POST('/api/v1/lanes/{lane}/steps/{step}/withdrawal', {
      params: { path: { lane: props.lane, step: openedStep.value?.number ?? '' } },
    }),
  )
  await refresh()
}
async function openStep(step: StepStatus, newest: boolean) {
  openedStep.value = step
  openedNewest.value = newest
  if (step.flags?.includes('absent')) return
  texts.value = await result(
    api.GET('/api/v1/lanes/{lane}/steps/{step}', {
      params: { path: { lane: props.lane, step: step.number }, query: { limit: 50000 } },
    }),
  )
  textsOpen.value = true
}
const parts: Record<string, string> = { forward: 'Forward', back: 'Way back', check: 'Check' }
</script>

<template>
  <div class="stack">
    <ProblemNote v-if="problem" :problem="problem" />
    <Skeleton v-if="!status && !problem" height="200px" />
    <template v-if="status">
      <div class="row">
        <h1>
          {{ lane }} /
          <template v-if="fleet"
            ><RouterLink :to="`/lanes/${lane}/${fleet}`">{{ fleet }}</RouterLink
            >.{{ environment.slice(fleet.length + 1) }}</template
          ><template v-else>{{ environment }}</template>
        </h1>
        <StateMark :word="stateOf(status)" />
        <code class="soft">{{ status.target }}</code>
        <span v-if="status.disposable" class="soft small">disposable</span>
        <span class="grow" />
        <Button
          v-if="fleet"
          :label="labels.setAside + '…'"
          icon="pi pi-eye-slash"
          size="small"
          severity="secondary"
          text
          @click="dialog = 'aside'"
        />
        <Button
          v-if="status.disposable && !status.fleet"
          :label="labels.rebuild + '…'"
          icon="pi pi-refresh"
          size="small"
          severity="secondary"
          text
          @click="dialog = 'rebuild'"
        />
        <Button
          v-if="unfinished && !status.fleet"
          :label="labels.settle + '…'"
          icon="pi pi-check-square"
          size="small"
          severity="secondary"
          text
          @click="dialog = 'settle'"
        />
        <Button
          v-if="!status.fleet"
          :label="labels.attest + '…'"
          icon="pi pi-user-edit"
          size="small"
          severity="secondary"
          text
          :disabled="unread || !waiting.length"
          @click="((attestFirst = ''), (dialog = 'attest'))"
        />
        <Button
          :label="labels.rollBack + '…'"
          icon="pi pi-undo"
          size="small"
          severity="secondary"
          outlined
          :disabled="unread || (!applied && !unfinished)"
          @click="dialog = 'rollback'"
        />
        <Button
          :label="labels.promote + '…'"
          icon="pi pi-arrow-right"
          size="small"
          :severity="unknown ? 'secondary' : undefined"
          :disabled="unread || (!status.pending && !status.fleet)"
          @click="dialog = 'promote'"
        />
      </div>
      <p v-if="isUnknown(status) || (status.reached && (unread || isOld(status)))" class="panel running" role="status">
        <i class="pi pi-spin pi-spinner" aria-hidden="true" />
        <template v-if="isUnknown(status)">
          The target has not answered yet. Until it does, this is what Vorrang knows without it.
        </template>
        <template v-else>The target is being read. This is its state as of {{ moment(status.read_at) }} UTC.</template>
      </p>
      <TroubleRow v-for="t in status.trouble" :key="t.kind + t.step" :environment="status" :trouble="t">
        <Button
          v-if="moveOf(t) && !status.fleet && !unread"
          :label="moveOf(t)!.label + '…'"
          size="small"
          severity="danger"
          outlined
          class="move"
          @click="move(t)"
        />
      </TroubleRow>
      <p v-if="status.running" class="panel running">
        <i class="pi pi-spin pi-spinner" />
        <RouterLink :to="`/deployments/${status.running.id}`">Deployment {{ status.running.id }}</RouterLink
        >, started by {{ status.running.actor }}, is running here: {{ plural(status.running.planned, 'step') }}
        {{ status.running.direction }}.
      </p>
      <dl v-if="status.reached && !status.fleet" class="facts">
        <div>
          <dt>stands at</dt>
          <dd>
            <b>{{ status.at ?? '–' }}</b> {{ status.at_slug?.replaceAll('-', ' ') }}
          </dd>
        </div>
        <div>
          <dt>pending</dt>
          <dd :class="{ warn: status.pending }">
            <b>{{ status.pending }}</b>
          </dd>
        </div>
        <div>
          <dt>applied</dt>
          <dd>{{ status.applied }}</dd>
        </div>
        <div v-if="status.baseline">
          <dt>baseline</dt>
          <dd>{{ status.baseline }}, covers {{ status.covered }}</dd>
        </div>
        <div v-if="status.not_here">
          <dt>not here</dt>
          <dd>{{ status.not_here }}</dd>
        </div>
        <div>
          <dt>last deployment</dt>
          <dd>
            <RouterLink v-if="status.last" :to="`/deployments/${status.last.id}`"
              >{{ status.last.id }} {{ status.last.outcome }}</RouterLink
            ><template v-else>none</template>
          </dd>
        </div>
      </dl>
      <Tabs v-model:value="tab">
        <TabList>
          <Tab value="steps">{{ status.fleet ? 'Targets' : 'Steps' }}</Tab>
          <Tab value="preview">Preview</Tab>
          <Tab value="gate">Gate</Tab>
          <Tab v-if="!status.fleet" value="ledger">Ledger</Tab>
          <Tab v-if="!status.fleet" value="schema">{{ labels.schema }}</Tab>
          <Tab value="verify">Verify</Tab>
          <Tab value="deployments">{{ labels.deployments }}</Tab>
        </TabList>
        <TabPanels>
          <ProblemNote v-if="tabProblem" :problem="tabProblem" />
          <ProblemNote v-if="wholeProblem" :problem="wholeProblem" />
          <TabPanel value="steps"
            ><FleetPanel v-if="status.fleet" :environment="status" @done="refresh" />
            <StepTable v-else-if="tab === 'steps'" :lane="lane" :environment="environment" @open="openStep"
          /></TabPanel>
          <TabPanel value="preview"
            ><div class="stack">
              <RehearsalPanel v-if="preview?.actions.length && !status.fleet" :lane="lane" :environment="environment" />
              <PreviewList v-if="preview" :preview="preview" /></div
          ></TabPanel>
          <TabPanel value="gate"><GateTab :environment="status" /></TabPanel>
          <TabPanel value="ledger"><LedgerTable v-if="ledger" :ledger="ledger" @older="olderEntries" /></TabPanel>
          <TabPanel value="schema"
            ><SchemaTab v-if="status.reached && tab === 'schema'" :environment="status" @done="refresh"
          /></TabPanel>
          <TabPanel value="verify"
            ><VerificationView v-if="verification" :verification="verification" :fleet="!!status.fleet"
          /></TabPanel>
          <TabPanel value="deployments"
            ><DeploymentList v-if="tab === 'deployments'" :lane="lane" :environment="environment"
          /></TabPanel>
        </TabPanels>
      </Tabs>
      <PromoteDialog v-model:open="promoteOpen" :environment="status" @done="((tab = 'gate'), refresh())" />
      <RollbackDialog v-model:open="rollbackOpen" :environment="whole ?? { ...status, steps: [] }" />
      <BaselineDialog v-model:open="baselineOpen" :environment="whole ?? { ...status, steps: [] }" @done="refresh" />
      <AmendDialog v-model:open="amendOpen" :environment="status" @done="refresh" />
      <AttestDialog v-model:open="attestOpen" :environment="status" :steps="attestable" @done="refresh" />
      <RebuildDialog v-model:open="rebuildOpen" :environment="status" />
      <ActDialog
        v-model:open="withdrawOpen"
        :title="`${labels.withdraw} step ${openedStep?.number} from ${lane}`"
        :act="withdraw"
        ready
        severity="danger"
        :confirm="`Take step ${openedStep?.number} out of the catalogue`"
      >
        <p>
          The step leaves the catalogue of <b>{{ lane }}</b>, if it is applied in no environment. Take its files out of
          the step folder too, or the next submit brings it back.
        </p>
      </ActDialog>
      <SettleDialog v-model:open="settleOpen" :environment="status" :step="unfinished" @done="refresh" />
      <AsideDialog v-model:open="asideOpen" :environment="status" @done="refresh" />
      <AdoptDialog v-model:open="adoptOpen" :environment="status" @done="refresh" />
      <Dialog v-model:visible="textsOpen" modal dismissable-mask :header="texts ? titled(texts) : ''">
        <DifferenceView v-if="openedStep?.difference" :difference="openedStep.difference" class="file" />
        <p v-if="withdrawable" class="row">
          <span class="grow" /><Button
            :label="labels.withdraw + '…'"
            icon="pi pi-trash"
            size="small"
            severity="secondary"
            outlined
            @click="((textsOpen = false), (dialog = 'withdraw'))"
          />
        </p>
        <div v-for="f in texts?.files" :key="f.name" class="stack file">
          <p class="row">
            <b>{{ parts[f.part] }}</b> <code class="soft">{{ f.name }}</code>
            <code class="soft small" :title="f.checksum">{{ f.checksum.slice(0, 12) }}</code>
          </p>
          <SqlText :text="f.text" :shortened="f.shortened" />
        </div>
      </Dialog>
    </template>
  </div>
</template>

<style scoped>
h1 a {
  text-decoration: underline;
}
.facts {
  display: flex;
  flex-wrap: wrap;
  gap: 6px 28px;
  margin: 0;
}
.facts div {
  display: flex;
  gap: 6px;
}
dt {
  color: var(--ink-soft);
}
dd {
  margin: 0;
}
.running {
  border-left: 4px solid var(--warn);
}
.running .pi {
  margin-right: 6px;
}
.move {
  flex: none;
}
.file {
  gap: 5px;
  margin-bottom: var(--gap);
}
</style>
