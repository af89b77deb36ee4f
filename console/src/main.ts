import '@fontsource/ibm-plex-mono/400.css'
import '@fontsource/ibm-plex-sans/400.css'
import '@fontsource/ibm-plex-sans/600.css'
import 'primeicons/primeicons.css'
import './tokens.css'
import './base.css'

import PrimeVue from 'primevue/config'
import { createApp } from 'vue'

import App from './App.vue'
import { router } from './router'
import { harbourTheme } from './theme'

// The service's content policy takes only styles with this page's nonce.
const nonce = document.querySelector<HTMLMetaElement>('meta[name=nonce]')?.content

createApp(App)
  .use(router)
  .use(PrimeVue, { csp: { nonce }, theme: { preset: harbourTheme, options: { darkModeSelector: '.dark' } } })
  .mount('#app')
