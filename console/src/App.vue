<script setup lang="ts">
import Button from 'primevue/button'
import { computed, onMounted } from 'vue'
import { RouterLink, RouterView, useRoute } from 'vue-router'

import { api, askSession, session } from './api'
import { labels } from './labels'
import SignInPage from './pages/SignInPage.vue'
import ProofDialog from './dialogs/ProofDialog.vue'
import { dark, toggleDark } from './theme'

const route = useRoute()
onMounted(askSession)
const administers = computed(() => session.value?.grants.includes('administrator') ?? false)

async function signOut() {
  await api.DELETE('/api/v1/session')
  session.value = null
}
</script>

<template>
  <SignInPage v-if="session === null" />
  <template v-else-if="session">
    <header class="bar">
      <RouterLink to="/" class="mark"
        ><img src="/mark.svg" alt="" width="22" height="22" /> {{ labels.product }}</RouterLink
      >
      <nav class="row">
        <RouterLink to="/">{{ labels.board }}</RouterLink>
        <RouterLink to="/deployments">{{ labels.deployments }}</RouterLink>
        <template v-if="administers">
          <RouterLink to="/people">{{ labels.people }}</RouterLink>
          <RouterLink to="/audit">{{ labels.audit }}</RouterLink>
          <RouterLink to="/hooks">{{ labels.hooks }}</RouterLink>
        </template>
      </nav>
      <span class="grow" />
      <RouterLink to="/account" class="soft small" :title="session.grants.join(', ') || 'nothing is granted'">{{
        session.name
      }}</RouterLink>
      <Button
        :icon="dark ? 'pi pi-sun' : 'pi pi-moon'"
        text
        rounded
        size="small"
        severity="secondary"
        :aria-label="dark ? 'Light theme' : 'Dark theme'"
        @click="toggleDark"
      />
      <Button :label="labels.signOut" text size="small" severity="secondary" @click="signOut" />
    </header>
    <main>
      <RouterView :key="route.path" />
    </main>
    <ProofDialog />
  </template>
</template>

<style scoped>
.bar {
  display: flex;
  align-items: center;
  gap: var(--gap-large);
  padding: 6px var(--gap-large);
  background: var(--surface);
  border-bottom: 1px solid var(--line);
}
.mark {
  display: flex;
  align-items: center;
  gap: 8px;
  font-weight: 600;
  color: var(--ink);
  font-size: 16px;
}
.mark:hover {
  text-decoration: none;
}
nav {
  gap: var(--gap-large);
}
nav a {
  color: var(--ink-soft);
  padding: 4px 0;
  border-bottom: 2px solid transparent;
}
nav a.router-link-exact-active {
  color: var(--ink);
  border-color: var(--accent);
}
.bar > .small + * {
  margin-left: -12px;
}
@media (max-width: 700px) {
  .bar {
    gap: 4px 12px;
    padding: 4px 12px;
    flex-wrap: wrap;
  }
  nav {
    order: 1;
    width: 100%;
    gap: 14px;
    flex-wrap: nowrap;
    overflow-x: auto;
  }
  nav a {
    padding: 2px 0;
  }
  .bar > .small {
    max-width: 9rem;
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
  }
  main {
    padding: 12px 12px 32px;
  }
}
main {
  max-width: 1320px;
  margin: 0 auto;
  padding: 18px var(--gap-large) 48px;
}
</style>
