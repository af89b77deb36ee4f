<script setup lang="ts">
import Column from 'primevue/column'
import DataTable from 'primevue/datatable'
import SelectButton from 'primevue/selectbutton'
import Skeleton from 'primevue/skeleton'
import { ref, watch } from 'vue'

import { api, result, type StepStatus } from '../api'
import { usePages } from '../pages'
import { moment } from '../time'
import PagedList from './PagedList.vue'
import ProblemNote from './ProblemNote.vue'
import StateMark from './StateMark.vue'

const props = defineProps<{ lane: string; environment: string }>()
const emit = defineEmits<{ open: [step: StepStatus, newest: boolean] }>()

const views = ['all', 'waiting or in trouble']
const view = ref(views[0])
const {
  value: list,
  problem,
  pages,
} = usePages((search, before?: string) =>
  result(
    api.GET('/api/v1/lanes/{lane}/environments/{environment}/steps', {
      params: {
        path: { lane: props.lane, environment: props.environment },
        query: { which: view.value === views[0] ? 'all' : 'open', search, before },
      },
    }),
  ),
)
watch(view, () => pages.find(pages.asked.value))

const open = (step: StepStatus) => emit('open', step, step.number === list.value?.newest)
</script>

<template>
  <div class="stack">
    <ProblemNote v-if="problem" :problem="problem" />
    <SelectButton v-model="view" :options="views" :allow-empty="false" size="small" aria-label="Which steps" />
    <Skeleton v-if="!list && !problem" height="320px" />
    <p v-else-if="list && !list.reached" class="soft">The steps' states are known once the target is reached.</p>
    <PagedList
      v-else-if="list"
      v-slot="{ asked }"
      :pages="pages"
      within="Number, title, state or person"
      name="steps"
      newer="Higher numbers"
      older="Lower numbers"
    >
      <DataTable :value="list.steps" data-key="number" size="small" row-hover scrollable @row-click="open($event.data)">
        <template #empty
          ><span class="soft">{{
            asked
              ? `No step is found for “${asked}”.`
              : list.total
                ? 'Nothing waits, and nothing is in trouble.'
                : 'The catalogue is empty; vorrang submit fills it.'
          }}</span></template
        >
        <Column header="Step">
          <template #body="{ data }"
            ><button type="button" class="pick" @click.stop="open(data)">{{ data.number }}</button></template
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
    </PagedList>
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
:deep(td:nth-child(2)) {
  min-width: 9em;
}
</style>
