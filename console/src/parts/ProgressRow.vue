<script setup lang="ts">
import ProgressBar from 'primevue/progressbar'

import { plural } from '../labels'

/** How much is done of so many. */
defineProps<{ done: number; of: number; noun: string }>()
</script>

<template>
  <div class="row">
    <ProgressBar
      :value="of ? Math.round((100 * done) / of) : 0"
      class="grow"
      :show-value="false"
      :aria-label="`${done} of ${of} ${noun}s`"
    />
    <span>{{ done }} of {{ plural(of, noun) }}</span>
  </div>
</template>
