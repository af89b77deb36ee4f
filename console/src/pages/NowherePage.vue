<script setup lang="ts">
import { RouterLink } from 'vue-router'

import { labels } from '../labels'
</script>

<template>
  <p>
    There is no such page. <RouterLink to="/">{{ labels.board }}</RouterLink> shows where everything stands.
  </p>
</template>
