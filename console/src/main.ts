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

createApp(App)
  .use(router)
  .use(PrimeVue, { theme: { preset: harbourTheme, options: { darkModeSelector: '.dark' } } })
  .mount('#app')
