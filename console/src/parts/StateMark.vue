<script setup lang="ts">
import { computed } from 'vue'

/** A word with a sign and a colour; the word alone says everything. */
const props = defineProps<{ word: string }>()

const kinds: Record<string, [string, string]> = {
  applied: ['good', 'pi-check'],
  attested: ['good', 'pi-user-edit'],
  covered: ['quiet', 'pi-minus'],
  pending: ['warn', 'pi-clock'],
  'rolled back': ['warn', 'pi-undo'],
  failed: ['bad', 'pi-times'],
  'in doubt': ['bad', 'pi-question-circle'],
  edited: ['bad', 'pi-pencil'],
  absent: ['bad', 'pi-ban'],
  late: ['bad', 'pi-history'],
  'not here': ['quiet', 'pi-map-marker'],
  done: ['good', 'pi-check'],
  running: ['warn', 'pi-spin pi-spinner'],
  cancelled: ['warn', 'pi-stop'],
  interrupted: ['warn', 'pi-pause'],
  'backed out': ['bad', 'pi-undo'],
  'in order': ['good', 'pi-check'],
  deploying: ['warn', 'pi-spin pi-spinner'],
  trouble: ['bad', 'pi-exclamation-triangle'],
  'not reached': ['bad', 'pi-exclamation-triangle'],
  'being read': ['quiet', 'pi-spin pi-spinner'],
  ran: ['warn', 'pi-check'],
  pass: ['good', 'pi-check'],
  hold: ['bad', 'pi-times'],
  waiting: ['quiet', 'pi-clock'],
  waived: ['warn', 'pi-forward'],
  'not asked': ['quiet', 'pi-minus'],
  disabled: ['warn', 'pi-ban'],
  started: ['good', 'pi-check'],
  held: ['bad', 'pi-lock'],
  away: ['bad', 'pi-exclamation-triangle'],
  paused: ['warn', 'pi-pause'],
  missed: ['bad', 'pi-times'],
  dropped: ['quiet', 'pi-times'],
  delivered: ['good', 'pi-check'],
  'given up': ['bad', 'pi-times'],
}
const kind = computed(() => kinds[props.word] ?? ['quiet', 'pi-circle'])
</script>

<template>
  <span class="state" :class="kind[0]"><i class="pi" :class="kind[1]" aria-hidden="true" />{{ word }}</span>
</template>

<style scoped>
.state {
  display: inline-flex;
  align-items: center;
  gap: 5px;
  white-space: nowrap;
  padding: 1px 7px;
  border-radius: 3px;
  font-size: var(--text-small);
}
.state .pi {
  font-size: 11px;
}
.good {
  color: var(--good);
  background: var(--good-wash);
}
.warn {
  color: var(--warn);
  background: var(--warn-wash);
}
.bad {
  color: var(--bad);
  background: var(--bad-wash);
  font-weight: 600;
}
.quiet {
  color: var(--ink-soft);
  background: var(--sunken);
}
</style>
