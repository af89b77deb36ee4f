<script setup lang="ts">
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import Password from 'primevue/password'
import { computed, onMounted, ref, shallowRef } from 'vue'

import { api, problemOf, result, session, type Problem, type WaysIn } from '../api'
import { labels } from '../labels'
import ProblemNote from '../parts/ProblemNote.vue'

/** Why a sign-in elsewhere failed, by the word that the service put into the address. */
const reasons: Record<string, string> = {
  'too-many': 'Too many people are signing in, or tried to. Wait a minute, then try again.',
  'provider-away': 'The place where you sign in does not answer. Try again; if it stays away, ask its operator.',
  expired: 'This sign-in was not begun in this browser, or took too long. Begin again.',
  'provider-refused': 'The place where you sign in said no, or its answer does not hold. Begin again.',
  'name-unusable': 'The name that you have there cannot be used here. Ask an administrator.',
  'name-taken': 'The name that you have there belongs to somebody else here. Ask an administrator.',
  disabled: 'You may not sign in any more. Ask an administrator.',
}

const asked = new URLSearchParams(location.search)
const name = ref(localStorage.getItem('vorrang-name') ?? '')
const secret = ref('')
const byToken = ref(asked.has('token'))
const problem = ref<Problem>()
const busy = ref(false)
const ways = shallowRef<WaysIn>()

onMounted(async () => {
  const said = asked.get('problem')
  if (said)
    problem.value = {
      type: 'urn:vorrang:unauthorized',
      title: 'Not signed in',
      status: 401,
      detail: reasons[said] ?? 'Signing in did not work. The service’s log says why.',
    }
  ways.value = (await api.GET('/api/v1/session/ways').catch(() => ({ data: undefined }))).data
})
const provider = computed(() => (ways.value?.openid ? new URL(ways.value.openid).host : ''))

async function signIn() {
  busy.value = true
  problem.value = undefined
  const proof = byToken.value ? { token: secret.value } : { password: secret.value }
  try {
    await result(api.POST('/api/v1/session', { body: { name: name.value, ...proof } }))
    session.value = await result(api.GET('/api/v1/session'))
    localStorage.setItem('vorrang-name', name.value)
    if (location.search) history.replaceState(null, '', location.pathname)
  } catch (error) {
    problem.value = problemOf(error)
    if (problem.value.status === 401)
      problem.value = byToken.value
        ? {
            ...problem.value,
            title: 'That is not the token',
            detail: 'It is the one that vorrangd was started with: VORRANG_ADMIN_TOKEN.',
            remedies: [],
          }
        : { ...problem.value, title: 'Not signed in', remedies: [] }
  }
  busy.value = false
}
</script>

<template>
  <form class="sign-in panel stack" @submit.prevent="signIn">
    <h1 class="row"><img src="/mark.svg" alt="" width="28" height="28" /> {{ labels.product }}</h1>
    <p class="soft">Scripts from development to production, and nothing through unchecked.</p>
    <label class="stack tight">
      <span class="small"
        >Your name <span v-if="byToken" class="soft">(is shown in the ledger beside what you do)</span></span
      >
      <InputText v-model="name" name="name" autocomplete="username" required autofocus />
    </label>
    <label class="stack tight">
      <span class="small">{{ byToken ? "The administrator's token" : 'Password' }}</span>
      <Password v-model="secret" name="secret" :feedback="false" autocomplete="current-password" fluid required />
    </label>
    <ProblemNote v-if="problem" :problem="problem" />
    <Button type="submit" label="Sign in" :loading="busy" />
    <a v-if="provider" href="/api/v1/session/openid" class="elsewhere">Sign in with {{ provider }}</a>
    <button v-if="ways?.token" type="button" class="other" @click="byToken = !byToken">
      {{ byToken ? 'Sign in by password instead' : "Use the administrator's token instead" }}
    </button>
  </form>
</template>

<style scoped>
.sign-in {
  width: min(400px, 92vw);
  margin: 14vh auto 0;
  padding: var(--gap-large);
}
.tight {
  gap: 4px;
}
.elsewhere {
  text-align: center;
  padding: 7px;
  border: 1px solid var(--line);
  border-radius: var(--round);
}
.other {
  font: var(--text-small) var(--sans);
  color: var(--accent);
  background: none;
  border: 0;
  padding: 0;
  cursor: pointer;
}
</style>
