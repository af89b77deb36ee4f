<script setup lang="ts">
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import Password from 'primevue/password'
import { ref } from 'vue'

import { api, result, session, type Token } from '../api'
import { useAct } from '../look'
import CommandLine from '../parts/CommandLine.vue'
import PagedList from '../parts/PagedList.vue'
import ProblemNote from '../parts/ProblemNote.vue'
import { usePages } from '../pages'
import { ago, moment } from '../time'

/** Who one is here, what one may, and what one can change about that. */
const machine = ref('')
const made = ref('')
const until = ref('')
const old = ref('')
const next = ref('')
const { problem, now } = useAct()

const make = () =>
  now(async () => {
    const answer = await result(api.POST('/api/v1/session/tokens', { body: { machine: machine.value } }))
    made.value = answer.token ?? ''
    until.value = answer.expires_at ?? ''
    await refresh()
  })
const {
  value: tokens,
  refresh,
  pages,
} = usePages((search, from?: number) =>
  result(api.GET('/api/v1/session/tokens', { params: { query: { limit: 20, search, before: from ?? 0 } } })),
)
const revoke = (token: Token) =>
  now(async () => {
    await result(api.DELETE('/api/v1/session/tokens/{token}', { params: { path: { token: token.id } } }))
    await refresh()
  })
const change = () =>
  now(async () => {
    await result(api.POST('/api/v1/session/password', { body: { old: old.value, new: next.value } }))
    session.value = null // every session has ended, this one too
  })
</script>

<template>
  <div v-if="session" class="stack">
    <h1>{{ session.name }}</h1>
    <p class="soft">Signed in by {{ session.via }}.</p>
    <section class="panel stack">
      <h2>What you may</h2>
      <p v-if="!session.grants.length">
        Nothing yet. An administrator can grant it:
        <CommandLine :command="`vorrang person ${session.name} -grant ROLE@LANE`" />
      </p>
      <ul v-else class="grants">
        <li v-for="g in session.grants" :key="g">{{ g }}</li>
      </ul>
      <p v-if="!session.person" class="soft">The administrator's token is no person: it approves and waives nothing.</p>
    </section>
    <ProblemNote v-if="problem" :problem="problem" />
    <template v-if="session.person">
      <section class="panel stack">
        <h2>A token for your programs</h2>
        <template v-if="made">
          <p>
            <b>This is the token. It is shown once</b>, and good until {{ moment(until) }} UTC. Give it to
            <code>vorrang login -token</code>.
          </p>
          <div><CommandLine :command="made" /></div>
        </template>
        <form v-else class="row" @submit.prevent="make">
          <label class="row"
            ><span>Whose programs use it</span
            ><InputText v-model="machine" name="machine" placeholder="my laptop" size="small" required
          /></label>
          <Button type="submit" label="Make a token" size="small" outlined />
        </form>
        <PagedList v-slot="{ asked }" :pages="pages" name="tokens" within="whose programs">
          <table v-if="tokens?.tokens.length" class="list">
            <thead>
              <tr>
                <th>Token</th>
                <th>Whose programs</th>
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
                <td class="soft small">{{ moment(t.expires_at) }}</td>
                <td class="soft small">{{ t.used_at ? ago(t.used_at) : 'never' }}</td>
                <td class="right">
                  <Button
                    label="Revoke"
                    size="small"
                    text
                    severity="secondary"
                    :aria-label="`Revoke token ${t.id}`"
                    @click="revoke(t)"
                  />
                </td>
              </tr>
            </tbody>
          </table>
          <p v-else class="soft small">
            {{ asked ? 'None of your tokens matches.' : 'None of your programs has a token.' }}
          </p>
        </PagedList>
      </section>
      <section class="panel stack">
        <h2>Your password</h2>
        <form class="row" @submit.prevent="change">
          <Password
            v-model="old"
            name="old"
            placeholder="the old one"
            :feedback="false"
            autocomplete="current-password"
            size="small"
            required
          />
          <Password
            v-model="next"
            name="new"
            placeholder="at least 12 characters"
            :feedback="false"
            autocomplete="new-password"
            size="small"
            required
          />
          <Button type="submit" label="Change it" size="small" outlined :disabled="next.length < 12" />
        </form>
        <p class="soft small">
          Your sessions and tokens end with that; sign in again afterwards. People who sign in elsewhere have no
          password here.
        </p>
      </section>
    </template>
  </div>
</template>

<style scoped>
.right {
  text-align: right;
}
.grants {
  margin: 0;
  padding-left: 1.4rem;
}
h2 {
  font-size: 15px;
}
</style>
