<script setup lang="ts">
import { labels } from '../labels'
import DeploymentList from '../parts/DeploymentList.vue'
</script>

<template>
  <div class="stack">
    <h1>{{ labels.deployments }}</h1>
    <DeploymentList />
  </div>
</template>
