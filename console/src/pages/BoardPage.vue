<script setup lang="ts">
import Skeleton from 'primevue/skeleton'
import { computed, reactive } from 'vue'
import { RouterLink } from 'vue-router'

import { api, result, type EnvironmentStatus } from '../api'
import { checkTitles, labels, plural } from '../labels'
import { isUnknown, stateOf } from '../state'
import CommandLine from '../parts/CommandLine.vue'
import EnvironmentCard from '../parts/EnvironmentCard.vue'
import PagedList from '../parts/PagedList.vue'
import ProblemNote from '../parts/ProblemNote.vue'
import TroubleRow from '../parts/TroubleRow.vue'
import { usePages } from '../pages'

const { value, problem, pages } = usePages(
  (search, after?: string) => result(api.GET('/api/v1/lanes', { params: { query: { search, after, wait: 1 } } })),
  (seen) => seen.lanes.some((l) => l.environments.some(isUnknown)),
)
const { asked, newer, older } = pages
/** What the page says is of some lanes only. */
const some = computed(() => !!asked.value || newer.value || older.value)

const environments = computed(() => value.value?.lanes.flatMap((l) => l.environments) ?? [])
/** The environments whose troubles are all shown. */
const opened = reactive(new Set<string>())
const nameOf = (e: EnvironmentStatus) => `${e.lane} / ${e.environment}`
const titleOf = (kind = '') => checkTitles[kind] ?? kind
const wrong = computed(() => environments.value.filter((e) => e.trouble.length > 0))
/** So many of which nobody knows how they stand now; nothing was wrong when they were seen last. */
const unknown = computed(() => environments.value.filter((e) => stateOf(e) === labels.reading).length)
const waiting = computed(() => environments.value.filter((e) => e.pending > 0 && e.trouble.length === 0).length)
</script>

<template>
  <div class="stack board">
    <ProblemNote v-if="problem" :problem="problem" />
    <template v-if="!value && !problem">
      <Skeleton height="46px" />
      <Skeleton height="120px" />
      <Skeleton height="120px" />
    </template>
    <template v-else-if="value">
      <section v-if="value.lanes.length === 0 && !some" class="panel stack">
        <h1>No lane is declared yet</h1>
        <p class="soft">
          A lane is one logical database and the ordered environments that its scripts travel through. Declare one with
          its file:
        </p>
        <div><CommandLine command="vorrang declare -file lane.yaml" /></div>
      </section>
      <section v-if="value.lanes.length" class="stack tight" aria-label="What is wrong">
        <h1 v-if="wrong.length" class="bad">
          <i class="pi pi-exclamation-triangle" aria-hidden="true" />
          {{ wrong.length }} of {{ plural(environments.length, 'environment') }}
          {{ wrong.length === 1 ? 'needs' : 'need' }} you{{ some ? ', of the lanes shown here' : '' }}
          <span v-if="unknown" class="soft plain"
            >· {{ unknown }} more {{ unknown === 1 ? 'is' : 'are' }} being read</span
          >
        </h1>
        <h1 v-else-if="unknown" class="soft">
          <i class="pi pi-spin pi-spinner" aria-hidden="true" />
          {{ unknown }} of {{ plural(environments.length, 'environment') }} {{ unknown === 1 ? 'is' : 'are' }} being
          read<span v-if="unknown < environments.length" class="plain"> · nothing is wrong in the others</span>
        </h1>
        <h1 v-else class="good">
          <i class="pi pi-check-circle" aria-hidden="true" /> Nothing is wrong{{
            some ? ' in the lanes shown here' : ''
          }}
          <span class="soft plain">{{
            waiting ? `· steps wait in ${plural(waiting, 'environment')}` : '· nothing waits'
          }}</span>
        </h1>
        <div v-for="e in wrong" :key="nameOf(e)" class="wrong">
          <div class="line">
            <button
              type="button"
              class="toggle"
              :aria-expanded="opened.has(nameOf(e))"
              :aria-label="`What is wrong on ${nameOf(e)}`"
              @click="opened.has(nameOf(e)) ? opened.delete(nameOf(e)) : opened.add(nameOf(e))"
            >
              {{ opened.has(nameOf(e)) ? '▾' : '▸' }}
            </button>
            <RouterLink :to="`/lanes/${e.lane}/${e.environment}`" class="place"
              >{{ e.lane }} / {{ e.environment }}</RouterLink
            >
            <span v-if="!opened.has(nameOf(e))" class="gist"
              ><strong class="bad">{{ titleOf(e.trouble[0]?.kind) }}:</strong> {{ e.trouble[0]?.message }}</span
            >
            <span v-if="e.trouble.length > 1" class="soft small more">{{ plural(e.trouble.length, 'trouble') }}</span>
          </div>
          <template v-if="opened.has(nameOf(e))">
            <TroubleRow v-for="t in e.trouble" :key="t.kind + t.step" :environment="e" :trouble="t" />
          </template>
        </div>
      </section>
      <PagedList
        :pages="pages"
        within="Name or purpose"
        name="lanes"
        newer="Before"
        older="Further"
        :many="value.lanes.length > 8"
      >
        <p v-if="some && !value.lanes.length" class="soft">No lane is found for “{{ asked }}”.</p>
        <section v-for="lane in value.lanes" :key="lane.lane" class="lane">
          <div class="row title">
            <h2>{{ lane.lane }}</h2>
            <span class="soft small grow">{{ lane.about }}</span>
            <span class="soft small">{{ lane.engine }}</span>
            <span class="soft small"
              >{{ plural(lane.steps, 'step') }}<template v-if="lane.newest">, newest {{ lane.newest }}</template></span
            >
            <RouterLink :to="`/releases/${lane.lane}`" class="small">{{ labels.releases }}</RouterLink>
          </div>
          <div class="stops">
            <EnvironmentCard v-for="e in lane.environments" :key="e.environment" :environment="e" />
          </div>
        </section>
      </PagedList>
    </template>
  </div>
</template>

<style scoped>
.board {
  gap: var(--gap-large);
}
.tight {
  gap: 8px;
}
.wrong {
  background: var(--bad-wash);
  border-left: 4px solid var(--bad);
  border-radius: var(--round);
}
.line {
  display: flex;
  gap: 8px;
  align-items: baseline;
  padding: 7px 12px;
}
.toggle {
  flex: none;
  border: 0;
  padding: 0 4px;
  background: none;
  color: var(--bad);
  font: inherit;
  cursor: pointer;
}
.place {
  font-weight: 600;
  flex: none;
}
@media (max-width: 700px) {
  .line {
    flex-wrap: wrap;
  }
  .gist {
    flex-basis: 100%;
    order: 1;
  }
}
.gist {
  flex: 1;
  min-width: 0;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.more {
  flex: none;
}
.plain {
  font-weight: 400;
  font-size: var(--text);
}
.title {
  border-bottom: 1px solid var(--line);
  padding-bottom: 4px;
  margin-bottom: 10px;
}
.title h2 {
  font-size: 16px;
}
.stops {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(min(300px, 100%), 1fr));
  gap: 22px;
}
.stops > * {
  position: relative;
}
@media (max-width: 700px) {
  .stops > * + *::before {
    display: none;
  }
}
.stops > * + *::before {
  content: '→';
  position: absolute;
  left: -19px;
  top: 28px;
  color: var(--ink-soft);
}
</style>
