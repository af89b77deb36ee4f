<script setup lang="ts">
import type { Remedy } from '../api'
import { pieces } from '../remedies'
import CommandLine from './CommandLine.vue'

/** What can be done: one of several, each with its command to copy. */
defineProps<{ remedies: Remedy[] }>()
</script>

<template>
  <ul class="remedies small">
    <li v-for="(remedy, i) in remedies" :key="i">
      <template v-for="(piece, j) in pieces(remedy)" :key="j">
        {{ piece.words }}<template v-if="piece.words && piece.command">: </template>
        <CommandLine v-if="piece.command" :command="piece.command" />
      </template>
    </li>
  </ul>
</template>

<style scoped>
.remedies {
  list-style: none;
  margin: 2px 0 0;
  padding: 0;
  display: grid;
  gap: 3px;
}
li::before {
  content: '→ ';
}
</style>
