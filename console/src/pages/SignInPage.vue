<script setup lang="ts">
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import Password from 'primevue/password'
import { ref } from 'vue'

import { api, problemOf, result, session, type Problem } from '../api'
import { labels } from '../labels'
import ProblemNote from '../parts/ProblemNote.vue'

const name = ref(localStorage.getItem('vorrang-name') ?? '')
const token = ref('')
const problem = ref<Problem>()
const busy = ref(false)

async function signIn() {
  busy.value = true
  problem.value = undefined
  try {
    session.value = await result(api.POST('/api/v1/session', { body: { name: name.value, token: token.value } }))
    localStorage.setItem('vorrang-name', name.value)
  } catch (error) {
    problem.value = problemOf(error)
    if (problem.value.status === 401) problem.value = { ...problem.value, title: 'That is not the token', detail: 'It is the one that vorrangd was started with: VORRANG_ADMIN_TOKEN.', next: '' }
  }
  busy.value = false
}
</script>

<template>
  <form class="sign-in panel stack" @submit.prevent="signIn">
    <h1 class="row"><img src="/mark.svg" alt="" width="28" height="28" /> {{ labels.product }}</h1>
    <p class="soft">Scripts from development to production, and nothing through unchecked.</p>
    <label class="stack tight">
      <span class="small">Your name <span class="soft">(stands in the ledger beside what you do)</span></span>
      <InputText v-model="name" name="name" autocomplete="username" required autofocus />
    </label>
    <label class="stack tight">
      <span class="small">Token</span>
      <Password v-model="token" name="token" :feedback="false" autocomplete="current-password" fluid required />
    </label>
    <ProblemNote v-if="problem" :problem="problem" />
    <Button type="submit" label="Sign in" :loading="busy" />
  </form>
</template>

<style scoped>
.sign-in { width: min(400px, 92vw); margin: 14vh auto 0; padding: var(--gap-large); }
.tight { gap: 4px; }
</style>
