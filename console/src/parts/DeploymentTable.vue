<script setup lang="ts">
import Column from 'primevue/column'
import DataTable from 'primevue/datatable'
import { RouterLink } from 'vue-router'

import type { Deployment } from '../api'
import { ago, moment, took } from '../time'
import StateMark from './StateMark.vue'

defineProps<{ deployments: Deployment[]; placed?: boolean }>()
</script>

<template>
  <DataTable :value="deployments" data-key="id" size="small">
    <template #empty><span class="soft">Nothing was deployed yet.</span></template>
    <Column header="Deployment"
      ><template #body="{ data }"
        ><RouterLink :to="`/deployments/${data.id}`"
          ><b>{{ data.id }}</b></RouterLink
        ></template
      ></Column
    >
    <Column v-if="placed" header="Where">
      <template #body="{ data }"
        ><RouterLink :to="`/lanes/${data.lane}/${data.environment}`"
          >{{ data.lane }} / {{ data.environment }}</RouterLink
        ></template
      >
    </Column>
    <Column header="Direction" field="direction" />
    <Column header="Steps" field="planned" />
    <Column header="Outcome"
      ><template #body="{ data }"><StateMark :word="data.outcome" /></template
    ></Column>
    <Column header="Why"
      ><template #body="{ data }"
        ><span class="small bad">{{
          data.failure ? `step ${data.failure.step}: ${data.failure.message}` : ''
        }}</span></template
      ></Column
    >
    <Column header="Started (UTC)"
      ><template #body="{ data }"
        ><span class="small soft" :title="moment(data.started_at)"
          >{{ moment(data.started_at) }}, {{ ago(data.started_at) }}</span
        ></template
      ></Column
    >
    <Column header="Took">
      <template #body="{ data }"
        ><span class="small soft">{{
          data.ended_at ? took(Date.parse(data.ended_at) - Date.parse(data.started_at)) : ''
        }}</span></template
      >
    </Column>
    <Column header="By"
      ><template #body="{ data }"
        ><span class="small">{{ data.actor }}</span></template
      ></Column
    >
  </DataTable>
</template>
