<script setup lang="ts">
import type { Preview } from '../api'
import { plural } from '../labels'
import SqlText from './SqlText.vue'

defineProps<{ preview: Preview }>()

function size(bytes: number) {
  return bytes < 2048 ? plural(bytes, 'byte') : bytes < 2 << 20 ? `${Math.round(bytes / 1024)} KiB` : `${(bytes / (1 << 20)).toFixed(1)} MiB`
}
</script>

<template>
  <div class="stack">
    <p v-if="preview.actions.length === 0" class="soft">There is nothing to do.</p>
    <section v-for="(a, i) in preview.actions" :key="a.number" class="stack tight">
      <p class="row">
        <b>{{ i + 1 }}. {{ a.number }} {{ a.slug.replaceAll('-', ' ') }}</b>
        <code class="soft">{{ a.file }}</code>
        <span class="soft small">mode {{ a.mode }}{{ a.phase ? `, phase ${a.phase}` : '' }}, {{ size(a.size) }}</span>
        <span v-if="a.resume" class="warn small">goes on at statement {{ a.resume }}</span>
      </p>
      <p v-if="a.irreversible" class="warn small"><i class="pi pi-exclamation-triangle" /> This step has no way back.</p>
      <p v-for="l in a.losses" :key="`now ${l.line}${l.what}`" class="warn small"><i class="pi pi-exclamation-triangle" /> Line {{ l.line }} {{ l.what }}: what is there then is lost.</p>
      <p v-for="l in a.lost_before" :key="`before ${l.line}${l.what}`" class="warn small"><i class="pi pi-exclamation-triangle" /> Line {{ l.line }} of the step itself {{ l.what }}; this does not bring back what was there.</p>
      <SqlText :text="a.sql" :shortened="a.shortened" />
      <template v-if="a.check">
        <p class="soft small">must hold right after:</p>
        <SqlText :text="a.check" />
      </template>
    </section>
  </div>
</template>

<style scoped>
.tight { gap: 5px; }
</style>
