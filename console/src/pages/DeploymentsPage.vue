<script setup lang="ts">
import Skeleton from 'primevue/skeleton'

import { api, result } from '../api'
import { labels } from '../labels'
import DeploymentTable from '../parts/DeploymentTable.vue'
import ProblemNote from '../parts/ProblemNote.vue'
import { usePolled } from '../poll'

const { value, problem } = usePolled(() =>
  result(api.GET('/api/v1/deployments', { params: { query: { limit: 100 } } })),
)
</script>

<template>
  <div class="stack">
    <h1>{{ labels.deployments }}</h1>
    <ProblemNote v-if="problem" :problem="problem" />
    <Skeleton v-if="!value && !problem" height="200px" />
    <DeploymentTable v-if="value" :deployments="value.deployments" placed />
  </div>
</template>
