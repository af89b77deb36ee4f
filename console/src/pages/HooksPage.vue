<script setup lang="ts">
import Skeleton from 'primevue/skeleton'

import { api, result } from '../api'
import CommandLine from '../parts/CommandLine.vue'
import PagedList from '../parts/PagedList.vue'
import ProblemNote from '../parts/ProblemNote.vue'
import StateMark from '../parts/StateMark.vue'
import { usePages } from '../pages'
import { usePolled } from '../poll'
import { moment } from '../time'

/** The programs that are told of what happens, and what was sent to them. */
const { value: hooks, problem } = usePolled(() => result(api.GET('/api/v1/hooks')))
const {
  value: log,
  problem: unread,
  pages: sent,
} = usePages((search, from?: number) =>
  result(api.GET('/api/v1/deliveries', { params: { query: { limit: 50, search, before: from ?? 0 } } })),
)
</script>

<template>
  <div class="stack">
    <h1>Hooks</h1>
    <ProblemNote v-if="problem" :problem="problem" />
    <Skeleton v-if="!hooks && !problem" height="160px" />
    <section v-if="hooks && !hooks.hooks.length" class="panel stack">
      <p>
        No webhook is declared. A hook is sent a signed event when a promotion is held, approved, started, failed or
        done.
      </p>
      <div><CommandLine command="vorrang hook NAME -url http://… -secret env:NAME -events held,failed" /></div>
    </section>
    <table v-if="hooks?.hooks.length" class="panel list">
      <thead>
        <tr>
          <th>Hook</th>
          <th>Address</th>
          <th>Secret</th>
          <th>Lane</th>
          <th>Told of</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="h in hooks.hooks" :key="h.name">
          <td>
            <b>{{ h.name }}</b>
          </td>
          <td>
            <code>{{ h.url }}</code>
          </td>
          <td>
            <code>{{ h.secret }}</code>
          </td>
          <td>{{ h.lane || 'all' }}</td>
          <td>{{ h.events.join(', ') }}</td>
        </tr>
      </tbody>
    </table>
    <template v-if="hooks?.hooks.length">
      <h2>Deliveries</h2>
      <ProblemNote v-if="unread" :problem="unread" />
      <PagedList v-slot="{ asked }" :pages="sent" name="deliveries" within="hook, event, state or answer">
        <p v-if="log && !log.deliveries.length" class="soft">
          {{ asked ? 'No delivery matches.' : 'Nothing was sent yet.' }}
        </p>
        <table v-if="log?.deliveries.length" class="panel list">
          <thead>
            <tr>
              <th>At (UTC)</th>
              <th>Hook</th>
              <th>Event</th>
              <th>State</th>
              <th>Tries</th>
              <th>Last answer</th>
              <th>Next try (UTC)</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="d in log.deliveries" :key="d.id">
              <td class="soft small">{{ moment(d.made_at) }}</td>
              <td>{{ d.hook }}</td>
              <td>
                <code>{{ d.type }}</code>
              </td>
              <td><StateMark :word="d.state" /></td>
              <td>{{ d.tries }}</td>
              <td class="small" :class="{ bad: d.message }">{{ d.message || d.status || '' }}</td>
              <td class="soft small">{{ moment(d.next_at ?? undefined) }}</td>
            </tr>
          </tbody>
        </table>
      </PagedList>
    </template>
  </div>
</template>
