<script setup lang="ts">
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import Password from 'primevue/password'
import Skeleton from 'primevue/skeleton'
import { ref, shallowRef } from 'vue'

import { api, result, type Person, type Token } from '../api'
import ActDialog from '../dialogs/ActDialog.vue'
import { useAct } from '../look'
import { usePages } from '../pages'
import CommandLine from '../parts/CommandLine.vue'
import PagedList from '../parts/PagedList.vue'
import ProblemNote from '../parts/ProblemNote.vue'
import StateMark from '../parts/StateMark.vue'
import { ago, moment } from '../time'

/** Who may sign in, and which machines have tokens. */
const {
  value: people,
  problem,
  refresh,
  pages,
} = usePages((search, from?: string) =>
  result(api.GET('/api/v1/people', { params: { query: { limit: 50, search, after: from ?? '' } } })),
)
const {
  value: tokens,
  refresh: refreshTokens,
  pages: pagesOfTokens,
} = usePages((search, from?: number) =>
  result(api.GET('/api/v1/tokens', { params: { query: { limit: 50, search, before: from ?? 0 } } })),
)

const open = ref(false)
const known = shallowRef<Person>()
const name = ref('')
const password = ref('')
const grant = ref('')
const { problem: acting, now } = useAct()
function edit(person?: Person) {
  known.value = person
  name.value = person?.name ?? ''
  password.value = grant.value = ''
  open.value = true
}
const split = (text: string) => text.split(/[\s,]+/).filter(Boolean)

async function put(person: string, body: { password?: string; grant?: string[]; take?: string[]; disabled?: boolean }) {
  await result(api.PUT('/api/v1/people/{person}', { params: { path: { person } }, body }))
  await refresh()
}
async function save() {
  await put(name.value, { ...(password.value ? { password: password.value } : {}), grant: split(grant.value) })
}
const take = (person: Person, text: string) => now(() => put(person.name, { take: [text] }))
const disable = (person: Person) => now(() => put(person.name, { disabled: !person.disabled_at }))
const revoke = (token: Token) =>
  now(async () => {
    await result(api.DELETE('/api/v1/tokens/{token}', { params: { path: { token: token.id } } }))
    await refreshTokens()
  })

const tokenOpen = ref(false)
const machine = ref('')
const machineGrant = ref('')
const days = ref('90')
const made = ref('')
async function make() {
  const answer = await result(
    api.POST('/api/v1/tokens', {
      body: { name: machine.value, grant: split(machineGrant.value), seconds: Number(days.value) * 86400 },
    }),
  )
  made.value = answer.text
  await refreshTokens()
}
function newToken() {
  machine.value = machineGrant.value = made.value = ''
  days.value = '90'
  tokenOpen.value = true
}
</script>

<template>
  <div class="stack">
    <div class="row">
      <h1>People</h1>
      <span class="grow" /><Button label="Add a person…" icon="pi pi-user-plus" size="small" @click="edit()" />
    </div>
    <ProblemNote v-if="problem" :problem="problem" />
    <ProblemNote v-if="acting" :problem="acting" />
    <Skeleton v-if="!people && !problem" height="160px" />
    <PagedList v-slot="{ asked }" :pages="pages" name="people" within="name or grants" newer="Back" older="More">
      <p v-if="people && !people.people.length && asked" class="panel soft">Nobody matches.</p>
      <p v-else-if="people && !people.people.length" class="panel">
        Nobody has a name of their own yet: the administrator's token may do everything, and approve nothing. Add the
        people who work here.
      </p>
      <table v-if="people?.people.length" class="panel list">
        <thead>
          <tr>
            <th>Name</th>
            <th>May</th>
            <th>Signed in</th>
            <th></th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="p in people.people" :key="p.name">
            <td>
              <b>{{ p.name }}</b> <StateMark v-if="p.disabled_at" word="disabled" />
            </td>
            <td>
              <span v-for="g in p.grants" :key="g" class="grant"
                >{{ g
                }}<button type="button" :aria-label="`Take ${g} from ${p.name}`" @click="take(p, g)">×</button></span
              >
              <span
                v-for="g in p.from_groups ?? []"
                :key="g"
                class="grant group"
                title="By a group, at the last sign-in"
                >{{ g }}</span
              >
              <span v-if="!p.grants.length && !p.from_groups?.length" class="soft">nothing</span>
            </td>
            <td class="soft small">{{ p.seen_at ? ago(p.seen_at) : 'never' }}</td>
            <td class="right">
              <Button label="Change…" size="small" text severity="secondary" @click="edit(p)" />
              <Button
                :label="p.disabled_at ? 'Enable' : 'Disable'"
                size="small"
                text
                severity="secondary"
                @click="disable(p)"
              />
            </td>
          </tr>
        </tbody>
      </table>
    </PagedList>
    <div class="row">
      <h2>Tokens</h2>
      <span class="grow" /><Button
        label="Make a machine's token…"
        icon="pi pi-key"
        size="small"
        outlined
        @click="newToken"
      />
    </div>
    <PagedList v-slot="{ asked }" :pages="pagesOfTokens" name="tokens" within="name, person, grants or maker">
      <p v-if="tokens && !tokens.tokens.length && asked" class="soft">No token matches.</p>
      <p v-else-if="tokens && !tokens.tokens.length" class="soft">No machine and no program of a person has a token.</p>
      <table v-if="tokens?.tokens.length" class="panel list">
        <thead>
          <tr>
            <th>Token</th>
            <th>Name</th>
            <th>May</th>
            <th>Good until (UTC)</th>
            <th>Used</th>
            <th></th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="t in tokens.tokens" :key="t.id">
            <td>{{ t.id }}</td>
            <td>
              <b>{{ t.name }}</b>
            </td>
            <td>{{ t.person ? `what ${t.person} may` : t.grants.join(', ') }}</td>
            <td class="soft small">{{ moment(t.expires_at) }}</td>
            <td class="soft small">{{ t.used_at ? ago(t.used_at) : 'never' }}</td>
            <td class="right"><Button label="Revoke" size="small" text severity="secondary" @click="revoke(t)" /></td>
          </tr>
        </tbody>
      </table>
    </PagedList>

    <ActDialog
      v-model:open="open"
      :title="known ? `Change ${known.name}` : 'Add a person'"
      :act="save"
      :ready="!!name && (!!known || password.length >= 12)"
      :confirm="known ? `Change ${known.name}` : `Add ${name}`"
    >
      <label v-if="!known" class="stack field"
        ><span class="small">Name <span class="soft">(lower-case; shown in the ledger)</span></span
        ><InputText v-model="name" name="person" autocomplete="off"
      /></label>
      <label v-if="!known?.subject" class="stack field"
        ><span class="small"
          >Password <span class="soft">(at least 12 characters{{ known ? '; as it is, if empty' : '' }})</span></span
        ><Password v-model="password" name="password" :feedback="false" autocomplete="new-password" fluid
      /></label>
      <label class="stack field"
        ><span class="small">Grant</span
        ><InputText v-model="grant" name="grant" placeholder="releaser@harbour/staging, reader" autocomplete="off"
      /></label>
      <p class="small soft">
        ROLE, ROLE@LANE or ROLE@LANE/ENVIRONMENT. Roles: reader, author, releaser, approver, keeper, reporter,
        administrator.
      </p>
    </ActDialog>
    <ActDialog
      v-model:open="tokenOpen"
      title="Make a machine's token"
      :act="make"
      :ready="!!machine && !!machineGrant && !made"
      confirm="Make it"
      keep
    >
      <template v-if="made">
        <p><b>This is the token. It is shown once.</b></p>
        <CommandLine :command="made" />
      </template>
      <template v-else>
        <label class="stack field"
          ><span class="small">Name of the machine</span><InputText v-model="machine" name="machine" autocomplete="off"
        /></label>
        <label class="stack field"
          ><span class="small">It may</span
          ><InputText
            v-model="machineGrant"
            name="machine-grant"
            placeholder="reporter@harbour/production"
            autocomplete="off"
        /></label>
        <label class="row"
          ><span class="small">Good for</span
          ><InputText v-model="days" name="days" inputmode="numeric" size="small" class="days" />
          <span class="small">days</span></label
        >
      </template>
    </ActDialog>
  </div>
</template>

<style scoped>
.field {
  gap: 4px;
}
.days {
  width: 80px;
}
.right {
  text-align: right;
  white-space: nowrap;
}
.grant {
  display: inline-flex;
  align-items: center;
  gap: 4px;
  margin: 1px 6px 1px 0;
  padding: 1px 4px 1px 8px;
  border-radius: 3px;
  background: var(--sunken);
  font-size: var(--text-small);
}
.grant button {
  border: 0;
  background: none;
  color: var(--ink-soft);
  cursor: pointer;
  font-size: 14px;
  line-height: 1;
  padding: 2px 4px;
}
.group {
  padding-right: 8px;
  font-style: italic;
}
</style>
