<script setup lang="ts">
import Button from 'primevue/button'
import { computed, onMounted, onUnmounted, ref, useTemplateRef, watch } from 'vue'

import type { MapTable, SchemaMap } from '../api'

/** Tables and foreign keys, as the service laid them out: to be moved, zoomed, and picked from. */
const props = defineProps<{ map: NonNullable<SchemaMap['map']>; found: string }>()
const picked = defineModel<string>('picked', { required: true })

const margin = 24
const area = useTemplateRef<SVGSVGElement>('area')
const view = ref({ x: 0, y: 0, width: 1, height: 1 })
const size = ref({ width: 1, height: 1 })
const watcher = new ResizeObserver(([entry]) => {
  if (entry) size.value = { width: entry.contentRect.width || 1, height: entry.contentRect.height || 1 }
})
onMounted(() => {
  if (area.value) watcher.observe(area.value)
})
onUnmounted(() => watcher.disconnect())

function fit() {
  const width = props.map.width + 2 * margin
  const height = props.map.height + 2 * margin
  const scale = Math.max(width / size.value.width, height / size.value.height, 1)
  view.value = {
    x: -margin - (size.value.width * scale - width) / 2,
    y: -margin,
    width: size.value.width * scale,
    height: size.value.height * scale,
  }
}
/** A map that would be too small to read begins at the table with the most foreign keys. */
function begin() {
  fit()
  const scale = view.value.width / size.value.width
  if (scale < 3 || size.value.width < 2) return
  const links = new Map<string, number>()
  for (const l of props.map.links) for (const end of [l.from, l.to]) links.set(end, (links.get(end) ?? 0) + 1)
  const t = props.map.tables.reduce((best, one) =>
    (links.get(one.name) ?? 0) > (links.get(best.name) ?? 0) ? one : best,
  )
  const width = size.value.width * 1.8
  const height = size.value.height * 1.8
  view.value = { x: t.x + t.width / 2 - width / 2, y: t.y + t.height / 2 - height / 2, width, height }
}
watch([() => props.map, size], begin, { immediate: true })

function zoom(by: number, x = view.value.x + view.value.width / 2, y = view.value.y + view.value.height / 2) {
  const v = view.value
  const width = Math.min(Math.max(v.width * by, 120), 8 * (props.map.width + size.value.width))
  const real = width / v.width
  view.value = { x: x - (x - v.x) * real, y: y - (y - v.y) * real, width, height: v.height * real }
}
function at(e: MouseEvent) {
  const box = area.value!.getBoundingClientRect()
  return {
    x: view.value.x + ((e.clientX - box.left) / box.width) * view.value.width,
    y: view.value.y + ((e.clientY - box.top) / box.height) * view.value.height,
  }
}
function wheel(e: WheelEvent) {
  const { x, y } = at(e)
  zoom(e.deltaY > 0 ? 1.15 : 1 / 1.15, x, y)
}
let from: { x: number; y: number } | undefined
function grab(e: PointerEvent) {
  from = at(e)
}
function drag(e: PointerEvent) {
  if (!from || !(e.buttons & 1)) return
  const to = at(e)
  view.value = { ...view.value, x: view.value.x - (to.x - from.x), y: view.value.y - (to.y - from.y) }
}
function key(e: KeyboardEvent) {
  const step = view.value.width / 10
  const moves: Record<string, [number, number]> = {
    ArrowLeft: [-step, 0],
    ArrowRight: [step, 0],
    ArrowUp: [0, -step],
    ArrowDown: [0, step],
  }
  const move = moves[e.key]
  if (move) view.value = { ...view.value, x: view.value.x + move[0], y: view.value.y + move[1] }
  else if (e.key === '+') zoom(1 / 1.25)
  else if (e.key === '-') zoom(1.25)
  else if (e.key === '0') fit()
  else return
  e.preventDefault()
}

/** Moves a table into the middle, at a size that can be read. */
function show(name: string) {
  const t = props.map.tables.find((t) => t.name === name)
  if (!t) return
  const width = Math.min(view.value.width, size.value.width * 1.2)
  const height = (width * size.value.height) / size.value.width
  view.value = { x: t.x + t.width / 2 - width / 2, y: t.y + t.height / 2 - height / 2, width, height }
}
watch(picked, (name) => name && show(name))

const near = computed(
  () =>
    new Set(props.map.links.flatMap((l) => (l.from === picked.value ? [l.to] : l.to === picked.value ? [l.from] : []))),
)
/** Whether the letters are large enough to be read; without them a map of hundreds of tables stays quick. */
const readable = computed(() => view.value.width / size.value.width < 2.6)
function classOf(t: MapTable) {
  const word = props.found.toLowerCase()
  const hit =
    word && (t.name.toLowerCase().includes(word) || t.columns.some((c) => c.name.toLowerCase().includes(word)))
  return [
    t.what,
    {
      picked: t.name === picked.value,
      faint: (word && !hit) || (picked.value && !word && t.name !== picked.value && !near.value.has(t.name)),
    },
  ]
}
function cut(text: string, letters: number) {
  return text.length > letters ? text.slice(0, Math.max(letters - 1, 1)) + '…' : text
}
const keys: Record<string, string> = { primary: ' ◆', foreign: ' ◇' }
</script>

<template>
  <div class="map">
    <svg
      ref="area"
      :viewBox="`${view.x} ${view.y} ${view.width} ${view.height}`"
      tabindex="0"
      role="application"
      aria-label="Map of the tables; arrow keys move it, + and - zoom, 0 shows all"
      @wheel.prevent="wheel"
      @pointerdown="grab"
      @pointermove="drag"
      @keydown="key"
      @click.self="picked = ''"
    >
      <defs>
        <marker id="arrow" viewBox="0 0 8 8" refX="7" refY="4" markerWidth="8" markerHeight="8" orient="auto">
          <path d="M0 0 L8 4 L0 8 z" class="tip" />
        </marker>
      </defs>
      <path
        v-for="l in map.links"
        :key="l.name"
        :d="l.path"
        class="link"
        :class="[l.what, { near: picked && (l.from === picked || l.to === picked) }]"
        marker-end="url(#arrow)"
      >
        <title>{{ l.name }}</title>
      </path>
      <g
        v-for="t in map.tables"
        :key="t.name"
        :transform="`translate(${t.x} ${t.y})`"
        class="table"
        :class="classOf(t)"
        :data-table="t.name"
        @click="picked = t.name"
      >
        <rect class="box" :width="t.width" :height="t.height" rx="4" />
        <text class="head" x="12" y="17">{{ t.name }}</text>
        <text v-if="t.what" class="what" x="6" y="-5">{{ t.what }}</text>
        <template v-if="readable">
          <template v-for="(c, i) in t.columns" :key="c.name">
            <text :class="c.what" x="12" :y="38 + i * 18">{{ c.name }}{{ keys[c.key ?? ''] }} {{ c.what }}</text>
            <text class="type" :x="t.width - 12" :y="38 + i * 18" text-anchor="end">
              {{
                cut(c.type, Math.max(Math.floor((t.width - 24) / 6.8) - c.name.length - (c.what?.length ?? 0) - 3, 4))
              }}
            </text>
          </template>
          <text v-if="t.more" class="type" x="12" :y="38 + t.columns.length * 18">and {{ t.more }} more columns</text>
        </template>
      </g>
    </svg>
    <div class="tools">
      <Button icon="pi pi-plus" size="small" severity="secondary" aria-label="Zoom in" @click="zoom(1 / 1.4)" />
      <Button icon="pi pi-minus" size="small" severity="secondary" aria-label="Zoom out" @click="zoom(1.4)" />
      <Button icon="pi pi-window-maximize" size="small" severity="secondary" aria-label="Show all" @click="fit" />
    </div>
  </div>
</template>

<style scoped>
.map {
  position: relative;
}
svg {
  display: block;
  width: 100%;
  height: max(420px, calc(100vh - 330px));
  background: var(--sunken);
  border-radius: var(--round);
  cursor: grab;
  touch-action: none;
  user-select: none;
}
svg:active {
  cursor: grabbing;
}
.tools {
  position: absolute;
  right: 10px;
  top: 10px;
  display: flex;
  gap: 4px;
}
text {
  font: 12px var(--sans);
  fill: var(--ink);
}
.head {
  font-weight: 600;
}
.type {
  fill: var(--ink-soft);
}
.what {
  font-style: italic;
  font-size: 11px;
}
.box {
  fill: var(--surface);
  stroke: var(--ink-soft);
  vector-effect: non-scaling-stroke;
}
.link {
  fill: none;
  stroke: var(--ink-soft);
  stroke-width: 1.2;
  vector-effect: non-scaling-stroke;
}
.tip {
  fill: var(--ink-soft);
}
.link.near {
  stroke: var(--accent);
  stroke-width: 2.4;
}
.table {
  cursor: pointer;
}
.faint {
  opacity: 0.35;
}
.picked .box {
  stroke: var(--accent);
  stroke-width: 3;
}
.added .box,
.link.added {
  stroke: var(--good);
  stroke-width: 2.4;
}
.removed .box,
.link.removed {
  stroke: var(--bad);
  stroke-width: 2.4;
  stroke-dasharray: 6 4;
}
.changed .box,
.link.changed {
  stroke: var(--warn);
  stroke-width: 2.4;
}
text.added,
.added > .what {
  fill: var(--good);
}
text.removed,
.removed > .what {
  fill: var(--bad);
}
text.changed,
.changed > .what {
  fill: var(--warn);
}
</style>
