import { createVuetify } from 'vuetify'
import { aliases, mdi } from 'vuetify/iconsets/mdi-svg'

const shared = { primary: '#3FB7A3', warning: '#D7A54A', error: '#E5604D' }

export const vuetify = createVuetify({
  icons: { defaultSet: 'mdi', aliases, sets: { mdi } },
  theme: {
    defaultTheme: localStorage.getItem('zinc-room') ?? 'dusk',
    themes: {
      dusk: {
        dark: true,
        colors: { ...shared, background: '#12171A', surface: '#192024', 'on-surface': '#D9E1E1' },
      },
      daylight: {
        dark: false,
        colors: {
          primary: '#156C5F',
          warning: '#8A6112',
          error: '#B93A29',
          background: '#E6EAEA',
          surface: '#F4F6F6',
          'on-surface': '#1D2629',
        },
      },
    },
  },
  defaults: {
    VBtn: { variant: 'outlined', density: 'comfortable', ripple: false, elevation: 0 },
    VTextField: { variant: 'outlined', density: 'compact', hideDetails: 'auto' },
    VSelect: { variant: 'outlined', density: 'compact', hideDetails: true },
    VDialog: { maxWidth: 460, scrim: '#0B0F11' },
  },
})
