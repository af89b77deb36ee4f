<script setup lang="ts">
import { computed } from 'vue'

import type { Preview } from '../api'
import { plural } from '../labels'
import { some } from '../together'
import FindingNote from './FindingNote.vue'
import FleetPlans from './FleetPlans.vue'
import SqlText from './SqlText.vue'

const props = defineProps<{ preview: Preview }>()

const severities = ['high', 'medium', 'low'] as const

/** How many findings of each severity are open, and those that matter most. */
const found = computed(() => {
  const all = props.preview.actions.flatMap((a) => a.findings)
  const open = all.filter((f) => !f.accepted)
  return {
    all,
    counts: severities
      .map((s) => ({ severity: s, n: open.filter((f) => f.severity === s).length }))
      .filter((c) => c.n > 0),
    accepted: all.length - open.length,
    high: open.filter((f) => f.severity === 'high'),
  }
})

type Action = Preview['actions'][number]

/** What a review found elsewhere than in the text that is shown; that a way back is missing stands there already. */
function elsewhere(a: Action) {
  return a.findings.filter((f) => f.file !== a.file)
}
function here(a: Action) {
  return a.findings.filter((f) => f.file === a.file && f.code !== 'back.missing')
}

function jump(number: string) {
  document.getElementById(`step-${number}`)?.scrollIntoView({ block: 'start' })
}

function size(bytes: number) {
  return bytes < 2048
    ? plural(bytes, 'byte')
    : bytes < 2 << 20
      ? `${Math.round(bytes / 1024)} KiB`
      : `${(bytes / (1 << 20)).toFixed(1)} MiB`
}
</script>

<template>
  <div class="stack">
    <p v-if="preview.actions.length === 0" class="soft">There is nothing to do.</p>
    <p v-else-if="preview.fleet?.[0]">
      This is the plan of <b>{{ plural(preview.fleet[0].targets.length, 'target') }}</b> ({{
        some(preview.fleet[0].targets)
      }}).
    </p>
    <FleetPlans v-if="preview.fleet" :plans="preview.fleet" />
    <p v-for="o in preview.overlaps" :key="o.expand" class="panel small">
      <b class="warn">Two versions:</b> {{ o.message }}.
    </p>
    <div v-if="found.all.length" class="panel stack tight" role="status">
      <p class="small">
        <b>A review found</b>
        <template v-for="(c, i) in found.counts" :key="c.severity"
          >{{ i ? ', ' : ' ' }}{{ c.n }} {{ c.severity }}</template
        >
        <template v-if="found.accepted"
          >{{ found.counts.length ? ', ' : ' ' }}{{ found.accepted }} accepted by their authors</template
        >; each stands below at its line.
      </p>
      <p v-for="f in found.high" :key="f.step + f.code + f.line" class="small">
        <i class="pi pi-exclamation-circle bad" aria-hidden="true" /> Step
        <a :href="`#step-${f.step}`" @click.prevent="jump(f.step)">{{ f.step }}</a>, line {{ f.line }}: {{ f.message }}
      </p>
    </div>
    <section v-for="(a, i) in preview.actions" :id="`step-${a.number}`" :key="a.number" class="stack tight">
      <p class="row">
        <b>{{ i + 1 }}. {{ a.number }} {{ a.slug.replaceAll('-', ' ') }}</b>
        <code class="soft">{{ a.file }}</code>
        <span class="soft small">mode {{ a.mode }}{{ a.phase ? `, phase ${a.phase}` : '' }}, {{ size(a.size) }}</span>
        <span v-if="a.resume" class="warn small">goes on at statement {{ a.resume }}</span>
      </p>
      <p v-if="a.irreversible" class="warn small">
        <i class="pi pi-exclamation-triangle" /> This step has no way back.
      </p>
      <p v-for="l in a.losses" :key="`now ${l.line}${l.what}`" class="warn small">
        <i class="pi pi-exclamation-triangle" /> Line {{ l.line }} {{ l.what }}: what is there then is lost.
      </p>
      <p v-for="l in a.lost_before" :key="`before ${l.line}${l.what}`" class="warn small">
        <i class="pi pi-exclamation-triangle" /> Line {{ l.line }} of the step itself {{ l.what }}; this does not bring
        back what was there.
      </p>
      <FindingNote v-for="f in elsewhere(a)" :key="f.code + f.line" :finding="f" place />
      <SqlText :text="a.sql" :shortened="a.shortened" :findings="here(a)" />
      <template v-if="a.check">
        <p class="soft small">must hold right after:</p>
        <SqlText :text="a.check" />
      </template>
    </section>
  </div>
</template>

<style scoped>
.tight {
  gap: 5px;
}
</style>
