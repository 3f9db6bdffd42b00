import { createVuetify } from 'vuetify'
import { aliases, mdi } from 'vuetify/iconsets/mdi-svg'

/** The colours of heat: embers on paper by day, on soot by night. */
export const vuetify = createVuetify({
  icons: { defaultSet: 'mdi', aliases, sets: { mdi } },
  defaults: {
    VCard: { rounded: 'lg', variant: 'flat', border: true },
    VBtn: { rounded: 'lg', style: 'text-transform: none; letter-spacing: 0' },
    VTextField: { variant: 'outlined', density: 'compact', hideDetails: 'auto' },
  },
  theme: {
    defaultTheme: 'system',
    themes: {
      light: {
        colors: {
          background: '#f5f2ed', surface: '#fffdfa', primary: '#97401a', secondary: '#5d5349',
          nozzle: '#c2410c', bed: '#0f766e', chamber: '#6d28d9',
          error: '#b3161b', warning: '#8a5a00', success: '#2f6b34',
        },
      },
      dark: {
        colors: {
          background: '#151311', surface: '#1f1c19', primary: '#f2a07b', secondary: '#b8aa9b',
          nozzle: '#fb923c', bed: '#2dd4bf', chamber: '#c4b5fd',
          error: '#ff8a80', warning: '#f2c14e', success: '#8fd694',
        },
      },
    },
  },
})
