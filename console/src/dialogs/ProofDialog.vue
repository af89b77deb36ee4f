<script setup lang="ts">
import Button from 'primevue/button'
import Dialog from 'primevue/dialog'
import Password from 'primevue/password'
import { ref, watch } from 'vue'

import { proof } from '../api'

/**
 * Asks for the password of the person who is signed in, before they make what opens the
 * service or change who may. It stays until the password is right, or the act is left.
 */
const password = ref('')
const asking = ref(false)
watch(proof, () => {
  password.value = ''
  asking.value = false
})

function answer(text: string) {
  asking.value = true
  proof.value?.answer(text)
}
</script>

<template>
  <Dialog
    :visible="!!proof"
    modal
    header="Show that it is you"
    :style="{ width: '440px' }"
    @update:visible="answer('')"
  >
    <form class="stack" @submit.prevent="answer(password)">
      <p>
        This makes what opens the service, or changes who may. You signed in more than 10 minutes ago, so it takes your
        password.
      </p>
      <label class="stack field"
        ><span class="small">Your password</span
        ><Password
          v-model="password"
          name="proof"
          :feedback="false"
          :invalid="!!proof?.wrong"
          autocomplete="current-password"
          fluid
      /></label>
      <p v-if="proof?.wrong" class="bad" role="alert">{{ proof.wrong }}</p>
      <p class="small soft">
        People who sign in elsewhere have no password here: sign out, sign in again, and do it within 10 minutes.
      </p>
      <div class="row">
        <span class="grow" /><Button
          type="button"
          label="Leave it"
          size="small"
          text
          severity="secondary"
          @click="answer('')"
        /><Button type="submit" label="Go on" size="small" :loading="asking" :disabled="!password" />
      </div>
    </form>
  </Dialog>
</template>

<style scoped>
.field {
  gap: 4px;
}
</style>
