<script setup lang="ts">
import hljs from 'highlight.js/lib/core'
import pgsql from 'highlight.js/lib/languages/pgsql'
import { computed } from 'vue'
import type { Finding } from '../api'
import FindingNote from './FindingNote.vue'

hljs.registerLanguage('pgsql', pgsql)

const props = defineProps<{ text: string; shortened?: boolean; findings?: Finding[] }>()

/** Text over this many characters is shown plain: colouring it would freeze the page. */
const most = 100_000

const html = computed(() =>
  props.text.length > most ? undefined : hljs.highlight(props.text.trimEnd(), { language: 'pgsql' }).value,
)

/**
 * The text in pieces, each with the findings of its last line. A tag that stays open at a
 * line's end is closed there, and opened again.
 */
const pieces = computed(() => {
  if (html.value === undefined) return []
  const lines: string[] = []
  let open: string[] = []
  for (const line of html.value.split('\n')) {
    let text = open.join('') + line
    for (const tag of line.match(/<span[^>]*>|<\/span>/g) ?? [])
      open = tag === '</span>' ? open.slice(0, -1) : [...open, tag]
    text += '</span>'.repeat(open.length)
    lines.push(text)
  }
  const found = props.findings ?? []
  const all: { html: string; findings: Finding[] }[] = []
  let from = 0
  for (const at of [...new Set(found.map((f) => Math.min(f.line ?? 1, lines.length)))].sort((a, b) => a - b)) {
    all.push({
      html: lines.slice(from, at).join('\n'),
      findings: found.filter((f) => Math.min(f.line ?? 1, lines.length) === at),
    })
    from = at
  }
  if (from < lines.length) all.push({ html: lines.slice(from).join('\n'), findings: [] })
  return all
})
</script>

<template>
  <div class="sql" tabindex="0">
    <!-- highlight.js escapes the text -->
    <template v-for="(piece, i) in pieces" :key="i">
      <pre v-html="piece.html" />
      <FindingNote v-for="f in piece.findings" :key="f.code + f.column" :finding="f" />
    </template>
    <pre v-if="html === undefined">{{ text }}</pre>
    <p v-if="shortened" class="soft small">… only the beginning is shown here; vorrang preview shows all of it</p>
  </div>
</template>

<style scoped>
.sql {
  background: var(--sunken);
  border: 1px solid var(--line);
  border-radius: var(--round);
  padding: 8px 12px;
  overflow: auto;
  max-height: 60vh;
}
pre {
  line-height: 1.5;
  tab-size: 8;
}
:deep(.hljs-keyword),
:deep(.hljs-type),
:deep(.hljs-built_in) {
  color: var(--sql-keyword);
}
:deep(.hljs-string) {
  color: var(--sql-string);
}
:deep(.hljs-number) {
  color: var(--sql-number);
}
:deep(.hljs-comment) {
  color: var(--sql-comment);
}
</style>
