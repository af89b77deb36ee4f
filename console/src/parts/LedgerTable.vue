<script setup lang="ts">
import Button from 'primevue/button'
import Column from 'primevue/column'
import DataTable from 'primevue/datatable'
import { RouterLink } from 'vue-router'

import type { Ledger } from '../api'
import { plural } from '../labels'
import { moment, took } from '../time'

defineProps<{ ledger: Ledger }>()
const emit = defineEmits<{ older: [] }>()

const kinds: Record<string, string> = { failed: 'bad', begun: 'warn', 'rolled-back': 'warn', applied: 'good' }
</script>

<template>
  <div class="stack">
    <p v-if="!ledger.exists" class="soft">There is no ledger yet; the first deployment, or a baseline, makes it.</p>
    <template v-else>
      <p v-if="ledger.chain" class="bad"><i class="pi pi-times" /> {{ ledger.chain }}</p>
      <p v-else class="soft small"><i class="pi pi-link good" /> The chain of all {{ ledger.total }} entries holds.</p>
      <DataTable
        :value="ledger.entries"
        data-key="seq"
        size="small"
        :paginator="ledger.entries.length > 100"
        :rows="100"
      >
        <Column field="seq" header="Seq" />
        <Column header="At (UTC)"
          ><template #body="{ data }"
            ><span class="small time">{{ moment(data.at) }}</span></template
          ></Column
        >
        <Column header="Action"
          ><template #body="{ data }"
            ><span :class="kinds[data.action]">{{ data.action }}</span></template
          ></Column
        >
        <Column header="Step">
          <template #body="{ data }">
            <b>{{ data.step }}</b> {{ data.slug.replaceAll('-', ' ') }}
            <span v-if="data.detail?.error" class="small bad error">{{ data.detail.error }}</span>
            <span v-if="data.detail?.covers" class="small soft">
              covers {{ plural(data.detail.covers.length, 'step') }}</span
            >
            <span v-if="data.detail?.reason" class="small soft"> “{{ data.detail.reason }}”</span>
            <span v-for="w in data.detail?.waived ?? []" :key="w.check" class="small warn">
              {{ w.check }} waived by {{ w.by }}: “{{ w.reason }}”</span
            >
          </template>
        </Column>
        <Column header="Took"
          ><template #body="{ data }"
            ><span class="small soft">{{ took(data.duration_ms) }}</span></template
          ></Column
        >
        <Column header="Deployment">
          <template #body="{ data }"
            ><RouterLink v-if="data.deployment" :to="`/deployments/${data.deployment}`">{{
              data.deployment
            }}</RouterLink></template
          >
        </Column>
        <Column header="Actor"
          ><template #body="{ data }"
            ><span class="small">{{ data.actor }}</span></template
          ></Column
        >
        <Column header="Hash"
          ><template #body="{ data }"
            ><code class="soft" :title="data.hash">{{ data.hash.slice(0, 12) }}</code></template
          ></Column
        >
      </DataTable>
      <p v-if="ledger.next">
        <Button label="Older" size="small" outlined severity="secondary" @click="emit('older')" />
      </p>
    </template>
  </div>
</template>

<style scoped>
.time {
  white-space: nowrap;
}
.error {
  display: block;
}
</style>
