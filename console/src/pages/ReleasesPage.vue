<script setup lang="ts">
import Select from 'primevue/select'
import Skeleton from 'primevue/skeleton'
import { computed, ref, watch } from 'vue'
import { RouterLink } from 'vue-router'

import { api, result } from '../api'
import { labels, titled, plural } from '../labels'
import { useLook } from '../look'
import CommandLine from '../parts/CommandLine.vue'
import PagedList from '../parts/PagedList.vue'
import ProblemNote from '../parts/ProblemNote.vue'
import { usePages } from '../pages'
import { usePolled } from '../poll'
import { moment } from '../time'

/** A lane's releases, and what one brings against an environment or another. */
const props = defineProps<{ lane: string }>()
const path = { lane: props.lane }
const {
  value: list,
  problem,
  pages,
} = usePages((search, from?: string) =>
  result(
    api.GET('/api/v1/lanes/{lane}/releases', { params: { path, query: { limit: 50, search, before: from ?? '' } } }),
  ),
)
const { value: status } = usePolled(() => result(api.GET('/api/v1/lanes/{lane}', { params: { path } })))

const name = ref('')
watch(list, () => (name.value ||= list.value?.releases[0]?.name ?? ''))
const chosen = computed(() => list.value?.releases.find((r) => r.name === name.value))

const against = ref('sums')
const others = computed(() => [
  { value: 'sums', label: 'nothing: the files that it seals' },
  ...(status.value?.environments ?? []).map((e) => ({
    value: `environment ${e.environment}`,
    label: `what is applied in ${e.environment}`,
  })),
  ...(list.value?.releases ?? [])
    .filter((r) => r.name !== name.value)
    .map((r) => ({ value: `release ${r.name}`, label: `release ${r.name}` })),
])

// What a release brings to the last environment is what people ask first.
watch(status, (now, before) => {
  const last = now?.environments.at(-1)
  if (!before && last) against.value = `environment ${last.environment}`
})
const {
  value: content,
  problem: contentProblem,
  look,
} = useLook(() => {
  const [kind, other] = against.value.split(' ')
  const query = kind === 'environment' ? { environment: other } : kind === 'release' ? { against: other } : {}
  return result(
    api.GET('/api/v1/lanes/{lane}/releases/{release}', { params: { path: { ...path, release: name.value }, query } }),
  )
})
watch([name, against], () => name.value && look())
const report = computed(() => {
  const environment = encodeURIComponent(against.value.split(' ')[1] ?? '')
  const lane = encodeURIComponent(props.lane)
  return `/api/v1/lanes/${lane}/environments/${environment}/report?release=${encodeURIComponent(name.value)}`
})
</script>

<template>
  <div class="stack">
    <h1>{{ labels.releases }} of {{ lane }}</h1>
    <ProblemNote v-if="problem" :problem="problem" />
    <Skeleton v-if="!list && !problem" height="160px" />
    <PagedList v-slot="{ asked }" :pages="pages" name="releases" within="name, notes, commit or by">
      <p v-if="list && !list.releases.length && asked" class="panel soft">No release matches.</p>
      <section v-else-if="list && !list.releases.length" class="panel stack">
        <p>Nothing was cut yet. A release seals every step up to a point, each with its checksum; it never changes.</p>
        <div><CommandLine :command="`vorrang cut -lane ${lane} NAME`" /></div>
      </section>
      <table v-if="list?.releases.length" class="panel list">
        <thead>
          <tr>
            <th>Release</th>
            <th>Through</th>
            <th>Steps</th>
            <th>Cut (UTC)</th>
            <th>By</th>
            <th>Commit</th>
            <th>Digest</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="r in list.releases" :key="r.name" :class="{ chosen: r.name === name }" @click="name = r.name">
            <td>
              <button type="button" class="pick" :aria-pressed="r.name === name" @click.stop="name = r.name">
                {{ r.name }}
              </button>
            </td>
            <td>{{ r.through }}</td>
            <td>{{ r.steps }}</td>
            <td class="soft">{{ moment(r.cut_at) }}</td>
            <td class="soft">
              <template v-if="r.taken_in_by"
                >taken in by {{ r.taken_in_by }}; <span class="warn">claims {{ r.cut_by }}</span></template
              ><template v-else>{{ r.cut_by }}</template>
            </td>
            <td>
              <code v-if="r.commit">{{ r.commit.slice(0, 10) }}</code>
              <span v-if="r.commit && !r.clean" class="warn small">with changes</span>
            </td>
            <td>
              <code class="soft" :title="r.digest">{{ r.digest.slice(0, 12) }}</code>
            </td>
          </tr>
        </tbody>
      </table>
    </PagedList>
    <section v-if="chosen" class="stack">
      <h2>{{ chosen.name }}</h2>
      <pre v-if="chosen.notes" class="panel notes">{{ chosen.notes }}</pre>
      <p class="soft small">
        Digest <code class="long">{{ chosen.digest }}</code>
      </p>
      <p v-for="s in content?.signatures" :key="s.fingerprint" class="small">
        Signed by <code class="long">{{ s.fingerprint }}</code>
      </p>
      <div class="row">
        <CommandLine :command="`vorrang export -lane ${lane} ${chosen.name}`" />
        <template v-for="e in status?.environments" :key="e.environment"
          ><RouterLink :to="`/lanes/${lane}/${e.environment}`">{{ e.environment }}</RouterLink></template
        >
      </div>
      <p v-if="against.startsWith('environment ')" class="small">
        <a :href="report" target="_blank" rel="noopener"
          ><i class="pi pi-file" aria-hidden="true" /> Report of its promotion to {{ against.split(' ')[1] }}</a
        >
        <span class="soft"> · one document for reviewers: the steps with findings, the rehearsal, the gate</span>
      </p>
      <label class="row"
        ><span>Compare with</span
        ><Select
          v-model="against"
          name="against"
          :options="others"
          option-label="label"
          option-value="value"
          size="small"
          class="other"
      /></label>
      <ProblemNote v-if="contentProblem" :problem="contentProblem" />
      <template v-if="content">
        <p v-if="content.away?.length" class="warn">
          Not compared with {{ content.away.length }} of {{ content.away.length + (content.targets ?? 0) }} targets,
          which could not be read: {{ content.away.slice(0, 5).join(', ') }}{{ content.away.length > 5 ? ', …' : '' }}
        </p>
        <pre v-if="against === 'sums'" class="panel sums" tabindex="0">{{ content.sums }}</pre>
        <p v-else-if="!content.changes.length" class="good">
          It brings nothing new{{
            content.targets ? ` to the ${plural(content.targets, 'target')} that were read` : ''
          }}.
        </p>
        <div v-else class="stack">
          <ul class="panel changes">
            <li v-for="c in content.changes" :key="c.number">
              <b>{{ c.what }}</b> {{ titled(c) }}
              <span v-if="c.mode !== 'transaction'" class="small warn">mode {{ c.mode }}</span>
              <span v-if="c.phase" class="small soft">phase {{ c.phase }}</span>
            </li>
          </ul>
          <p v-for="o in content.overlaps" :key="o.expand" class="small">
            <b class="warn">Two versions:</b> {{ o.message }}.
          </p>
        </div>
      </template>
    </section>
  </div>
</template>

<style scoped>
tbody tr {
  cursor: pointer;
}
.chosen {
  background: var(--sunken);
}
.notes {
  white-space: pre-wrap;
  font-family: var(--sans);
}
.sums {
  overflow: auto;
  max-height: 40vh;
  font-size: var(--text-small);
  line-height: 1.5;
}
.long {
  overflow-wrap: anywhere;
}
.other {
  min-width: min(320px, 100%);
}
.changes {
  margin: 0;
  padding-left: 2rem;
}
</style>
