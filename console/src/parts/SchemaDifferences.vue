<script setup lang="ts">
import { computed } from 'vue'

import type { Difference } from '../api'

/** How a schema differs, or what a step did to it: object by object. What belongs to a table stands below it. */
const props = defineProps<{ differences: Difference[]; more?: number }>()

type Row = { key: string; what: string; kind: string; name: string; inside: boolean; details: string[] }
const rows = computed(() => {
  const shown = new Set<string>()
  return props.differences.map((d): Row => {
    const inside = !!d.of && shown.has(d.of)
    shown.add(d.name)
    return {
      key: `${d.kind} ${d.name}`,
      what: d.what,
      kind: d.kind,
      name: inside ? d.name.slice((d.of ?? '').length + 1) : d.name,
      inside,
      details: detailsOf(d),
    }
  })
})

function detailsOf(d: Difference): string[] {
  const value = (name: string) => short(d.props?.find((p) => p.name === name)?.after)
  if (d.what === 'changed')
    return (d.props ?? []).map((p) => {
      const [before, after] = apart(p.before ?? '', p.after ?? '')
      return p.name === 'null'
        ? `null: ${nullable(after)}, was ${nullable(before)}`
        : `${p.name}: ${after || 'none'}, was ${before || 'none'}`
    })
  if (d.what === 'added' && d.kind === 'column') {
    const fallback = value('default')
    return [value('type') + (value('null') ? ' not null' : '') + (fallback ? ` default ${fallback}` : '')]
  }
  return d.kind !== 'table' && value('definition') ? [value('definition')] : []
}
const nullable = (value: string) => (value === 'no' ? 'not allowed' : 'allowed')

/** What two values differ by: where they are long, what they have in common before and after is left out. */
function apart(before: string, after: string): [string, string] {
  const most = 120
  const flat = (text: string) => text.replace(/\s+/g, ' ').trim()
  const [b, a] = [flat(before), flat(after)]
  if ((b.length <= most && a.length <= most) || !b || !a) return [short(b), short(a)]
  const room = Math.min(b.length, a.length)
  let head = 0
  while (head < room && b[head] === a[head]) head++
  let tail = 0
  while (tail < room - head && b.at(-1 - tail) === a.at(-1 - tail)) tail++
  const around = 20
  const part = (text: string) => {
    const [from, to] = [Math.max(head - around, 0), Math.min(text.length - tail + around, text.length)]
    return (from > 0 ? '…' : '') + short(text.slice(from, to)) + (to < text.length ? '…' : '')
  }
  return [part(b), part(a)]
}
function short(text?: string): string {
  const words = (text ?? '').replace(/\s+/g, ' ').trim()
  return words.length > 160 ? words.slice(0, 160) + '…' : words
}
const tones: Record<string, string> = { added: 'good', removed: 'bad', changed: 'warn' }
</script>

<template>
  <table class="differences">
    <tbody>
      <tr v-for="r in rows" :key="r.key">
        <td class="small" :class="tones[r.what]">{{ r.what }}</td>
        <td :class="{ inside: r.inside }">
          <span class="soft small">{{ r.kind }}</span> <code>{{ r.name }}</code>
        </td>
        <td class="detail">
          <code v-for="line in r.details" :key="line" class="soft">{{ line }}</code>
        </td>
      </tr>
      <tr v-if="more">
        <td />
        <td colspan="2" class="soft small">and {{ more }} more that are not listed</td>
      </tr>
    </tbody>
  </table>
</template>

<style scoped>
.differences {
  border-collapse: collapse;
  width: 100%;
}
td {
  padding: 1px 10px 1px 0;
  vertical-align: baseline;
}
.inside {
  padding-left: 18px;
}
.detail {
  width: 55%;
  overflow-wrap: anywhere;
}
.detail code {
  display: block;
}
</style>
