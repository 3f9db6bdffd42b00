import { createVuetify } from 'vuetify'
import { aliases, mdi } from 'vuetify/iconsets/mdi-svg'

/**
 * Warm paper and ink by day, soot and ash by night; one accent, the ember. Heat has a scale of its own
 * (words/heaters), and an alarm a colour that nothing else has.
 */
export const vuetify = createVuetify({
  icons: { defaultSet: 'mdi', aliases, sets: { mdi } },
  defaults: {
    VCard: { rounded: 'lg', variant: 'flat', border: true },
    VBtn: { rounded: 'lg', style: 'text-transform: none; letter-spacing: 0' },
    VTextField: { variant: 'outlined', density: 'compact', hideDetails: 'auto' },
    VCombobox: { variant: 'outlined', density: 'compact', hideDetails: true },
    VSelect: { variant: 'outlined', density: 'compact', hideDetails: true },
    VAlert: { variant: 'outlined', rounded: 'lg' },
  },
  theme: {
    defaultTheme: 'system',
    themes: {
      light: {
        colors: {
          background: '#f4f0e8', surface: '#fffdf8', primary: '#97401a', secondary: '#5d5349', info: '#3b5568',
          error: '#a8161b', warning: '#7a4f00', success: '#2a6230', alarm: '#a3005a', halt: '#a8161b',
        },
        variables: { 'medium-emphasis-opacity': 0.74, 'border-color': '#3d2f22', 'border-opacity': 0.16 },
      },
      dark: {
        colors: {
          background: '#141210', surface: '#1e1b18', primary: '#f2a07b', secondary: '#bfb2a4', info: '#a9c3d6',
          error: '#ff9389', warning: '#f0c362', success: '#8fd694', alarm: '#ff8cc4', halt: '#b3261e',
        },
        variables: { 'medium-emphasis-opacity': 0.78, 'border-color': '#ffe9d2', 'border-opacity': 0.16 },
      },
    },
  },
})
