<script setup lang="ts">
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import Password from 'primevue/password'
import { ref } from 'vue'

import { api, result, session } from '../api'
import { useAct } from '../look'
import CommandLine from '../parts/CommandLine.vue'
import ProblemNote from '../parts/ProblemNote.vue'
import { moment } from '../time'

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
      <p v-if="!session.grants.length">Nothing yet. An administrator can grant it: <CommandLine :command="`vorrang person ${session.name} -grant ROLE@LANE`" /></p>
      <ul v-else class="grants"><li v-for="g in session.grants" :key="g">{{ g }}</li></ul>
      <p v-if="!session.person" class="soft">The administrator's token is no person: it approves and waives nothing.</p>
    </section>
    <ProblemNote v-if="problem" :problem="problem" />
    <template v-if="session.person">
      <section class="panel stack">
        <h2>A token for your programs</h2>
        <template v-if="made">
          <p><b>This is the token. It is shown once</b>, and good until {{ moment(until) }} UTC. Give it to <code>vorrang login -token</code>.</p>
          <div><CommandLine :command="made" /></div>
        </template>
        <form v-else class="row" @submit.prevent="make">
          <label class="row"><span>Whose programs use it</span><InputText v-model="machine" name="machine" placeholder="my laptop" size="small" required /></label>
          <Button type="submit" label="Make a token" size="small" outlined />
        </form>
      </section>
      <section class="panel stack">
        <h2>Your password</h2>
        <form class="row" @submit.prevent="change">
          <Password v-model="old" name="old" placeholder="the old one" :feedback="false" autocomplete="current-password" size="small" required />
          <Password v-model="next" name="new" placeholder="at least 12 characters" :feedback="false" autocomplete="new-password" size="small" required />
          <Button type="submit" label="Change it" size="small" outlined :disabled="next.length < 12" />
        </form>
        <p class="soft small">Your sessions and tokens end with that; sign in again afterwards. Whoever signs in elsewhere has no password here.</p>
      </section>
    </template>
  </div>
</template>

<style scoped>
.grants { margin: 0; padding-left: 1.4rem; }
h2 { font-size: 15px; }
</style>
