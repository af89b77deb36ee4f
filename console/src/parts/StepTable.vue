<script setup lang="ts">
import Column from 'primevue/column'
import DataTable from 'primevue/datatable'
import SelectButton from 'primevue/selectbutton'
import { computed, ref } from 'vue'

import type { StepStatus } from '../api'
import { moment } from '../time'
import StateMark from './StateMark.vue'

const props = defineProps<{ steps: StepStatus[] }>()
const emit = defineEmits<{ open: [step: StepStatus] }>()

const views = ['all', 'waiting or in trouble']
const view = ref(views[0])
const sorted = computed(() => {
  const newestFirst = [...props.steps].reverse()
  return view.value === views[0] ? newestFirst : newestFirst.filter(matters)
})

function matters(s: StepStatus) {
  const flags = s.flags?.filter((f) => f !== 'not here') ?? []
  return flags.length > 0 || (!['applied', 'covered', 'attested'].includes(s.state) && !s.flags?.includes('not here'))
}
</script>

<template>
  <div class="stack">
    <SelectButton v-model="view" :options="views" :allow-empty="false" size="small" aria-label="Which steps" />
    <DataTable
      :value="sorted"
      data-key="number"
      size="small"
      row-hover
      scrollable
      :paginator="sorted.length > 100"
      :rows="100"
      @row-click="emit('open', $event.data)"
    >
      <template #empty
        ><span class="soft">{{
          steps.length
            ? 'Nothing waits, and nothing is in trouble.'
            : 'The catalogue is empty; vorrang submit fills it.'
        }}</span></template
      >
      <Column header="Step">
        <template #body="{ data }"
          ><button type="button" class="pick" @click.stop="emit('open', data)">{{ data.number }}</button></template
        >
      </Column>
      <Column header="Title"
        ><template #body="{ data }">{{ data.slug.replaceAll('-', ' ') }}</template></Column
      >
      <Column header="State">
        <template #body="{ data }">
          <span class="row marks"
            ><StateMark v-if="!data.flags?.includes('not here')" :word="data.state" /><StateMark
              v-for="f in data.flags"
              :key="f"
              :word="f"
          /></span>
        </template>
      </Column>
      <Column header="Mode"
        ><template #body="{ data }"
          ><span class="small" :class="{ soft: data.mode === 'transaction' }">{{ data.mode }}</span></template
        ></Column
      >
      <Column header="Phase"
        ><template #body="{ data }"
          ><span class="small">{{ data.phase }}</span></template
        ></Column
      >
      <Column header="Way back"
        ><template #body="{ data }"
          ><span class="small" :class="data.back ? 'soft' : 'warn'">{{
            data.back ? 'yes' : data.flags?.includes('absent') ? '' : 'none'
          }}</span></template
        ></Column
      >
      <Column header="Check"
        ><template #body="{ data }"
          ><span class="small soft">{{ data.check ? 'yes' : '' }}</span></template
        ></Column
      >
      <Column header="At (UTC)"
        ><template #body="{ data }"
          ><span class="small soft time">{{ moment(data.at) }}</span></template
        ></Column
      >
      <Column header="By"
        ><template #body="{ data }"
          ><span class="small soft">{{ data.actor }}</span></template
        ></Column
      >
    </DataTable>
  </div>
</template>

<style scoped>
.marks {
  gap: 4px;
}
.time {
  white-space: nowrap;
}
:deep(tbody tr) {
  cursor: pointer;
}
</style>
