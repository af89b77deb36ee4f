<script setup lang="ts">
import hljs from 'highlight.js/lib/core'
import pgsql from 'highlight.js/lib/languages/pgsql'
import { computed } from 'vue'

hljs.registerLanguage('pgsql', pgsql)

const props = defineProps<{ text: string; shortened?: boolean }>()

/** Text over this many characters is shown plain: colouring it would freeze the page. */
const most = 100_000

const html = computed(() => (props.text.length > most ? undefined : hljs.highlight(props.text.trimEnd(), { language: 'pgsql' }).value))
</script>

<template>
  <div class="sql" tabindex="0">
    <!-- highlight.js escapes the text -->
    <pre v-if="html !== undefined" v-html="html" />
    <pre v-else>{{ text }}</pre>
    <p v-if="shortened" class="soft small">… only the beginning is shown here; vorrang preview shows all of it</p>
  </div>
</template>

<style scoped>
.sql { background: var(--sunken); border: 1px solid var(--line); border-radius: var(--round); padding: 8px 12px; overflow: auto; max-height: 60vh; }
pre { line-height: 1.5; tab-size: 8; }
:deep(.hljs-keyword), :deep(.hljs-type), :deep(.hljs-built_in) { color: var(--sql-keyword); }
:deep(.hljs-string) { color: var(--sql-string); }
:deep(.hljs-number) { color: var(--sql-number); }
:deep(.hljs-comment) { color: var(--sql-comment); }
</style>
