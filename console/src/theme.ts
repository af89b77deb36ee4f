import { definePreset } from '@primeuix/themes'
import Aura from '@primeuix/themes/aura'
import { ref, watch } from 'vue'

/** PrimeVue's components in the console's own colours; see tokens.css. */
export const harbourTheme = definePreset(Aura, {
  primitive: { borderRadius: { xs: '2px', sm: '3px', md: '4px', lg: '6px', xl: '8px' } },
  semantic: {
    primary: {
      50: '#eef6f9',
      100: '#d3e7ee',
      200: '#a9cfdd',
      300: '#78b3c8',
      400: '#4793ae',
      500: '#1f7593',
      600: '#0f5c78',
      700: '#0c4a61',
      800: '#0b3b4d',
      900: '#0a2f3e',
      950: '#061d27',
    },
    formField: { paddingX: '0.6rem', paddingY: '0.35rem' },
    colorScheme: {
      light: { primary: { color: '{primary.600}', hoverColor: '{primary.700}', activeColor: '{primary.800}' } },
      dark: {
        surface: {
          0: '#ffffff',
          50: '#e6edf0',
          100: '#cfdbe0',
          200: '#a9bac2',
          300: '#8199a4',
          400: '#5f7783',
          500: '#465b66',
          600: '#344750',
          700: '#26363f',
          800: '#1b2931',
          900: '#142027',
          950: '#0e161b',
        },
        primary: {
          color: '{primary.300}',
          hoverColor: '{primary.200}',
          activeColor: '{primary.100}',
          contrastColor: '#06202b',
        },
      },
    },
  },
})

const kept = localStorage.getItem('vorrang-theme')

/** Whether the dark theme is on: as chosen before, or as the system has it. */
export const dark = ref(kept ? kept === 'dark' : matchMedia('(prefers-color-scheme: dark)').matches)

watch(dark, (on) => document.documentElement.classList.toggle('dark', on), { immediate: true })

export function toggleDark() {
  dark.value = !dark.value
  localStorage.setItem('vorrang-theme', dark.value ? 'dark' : 'light')
}
