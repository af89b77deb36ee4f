<script setup lang="ts">
import { computed } from 'vue'

import type { TextDifference } from '../api'
import { changes } from '../labels'

/** The applied text beside the new one, line by line. */
const props = defineProps<{ difference: TextDifference }>()

type Line = TextDifference['lines'][number]
type Row = { before?: Line; after?: Line; gap?: boolean }

/** Lines that went stand beside those that came in their place. */
const rows = computed(() => {
  const all: Row[] = []
  let open = 0 // the first row of a run of changes
  let last: Line | undefined
  for (const line of props.difference.lines) {
    if (line.op === 'same') {
      if (last && line.before! > (last.before ?? line.before! - 1) + 1 && last.op === 'same') all.push({ gap: true })
      all.push({ before: line, after: line })
      open = all.length
    } else if (line.op === 'gone') {
      all.push({ before: line })
    } else {
      const free = all.slice(open).find((r) => !r.after && !r.gap)
      if (free) free.after = line
      else all.push({ after: line })
    }
    last = line
  }
  return all
})
</script>

<template>
  <div class="stack difference">
    <p>
      <b>{{ changes[difference.change] }}</b>
    </p>
    <div v-if="rows.length" class="scroll" tabindex="0">
      <table>
        <thead>
          <tr>
            <th />
            <th>as it was applied</th>
            <th />
            <th>as the catalogue has it now</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(r, i) in rows" :key="i">
            <template v-if="r.gap"><td colspan="4" class="soft">…</td></template>
            <template v-else>
              <td class="number">{{ r.before?.before }}</td>
              <td :class="{ gone: r.before?.op === 'gone' }">
                <pre>{{ r.before && r.before.op === 'gone' ? '− ' : '  ' }}{{ r.before?.text }}</pre>
              </td>
              <td class="number">{{ r.after?.after }}</td>
              <td :class="{ new: r.after?.op === 'new' }">
                <pre>{{ r.after && r.after.op === 'new' ? '+ ' : '  ' }}{{ r.after?.text }}</pre>
              </td>
            </template>
          </tr>
        </tbody>
      </table>
    </div>
    <p v-if="difference.omitted" class="soft small">{{ difference.omitted }}</p>
  </div>
</template>

<style scoped>
.difference {
  gap: 6px;
}
.scroll {
  overflow: auto;
  max-height: 46vh;
  border: 1px solid var(--line);
  border-radius: var(--round);
  background: var(--sunken);
}
table {
  border-collapse: collapse;
  width: 100%;
  table-layout: fixed;
}
th {
  text-align: left;
  font-weight: 400;
  color: var(--ink-soft);
  padding: 4px 6px;
  font-size: var(--text-small);
}
th:nth-child(odd) {
  width: 44px;
}
td {
  vertical-align: top;
  padding: 0 6px;
}
pre {
  white-space: pre-wrap;
  overflow-wrap: anywhere;
  line-height: 1.5;
}
.number {
  color: var(--ink-soft);
  text-align: right;
  font-size: var(--text-small);
}
.gone {
  background: var(--bad-wash);
  color: var(--bad);
}
.new {
  background: var(--good-wash);
  color: var(--good);
}
</style>
