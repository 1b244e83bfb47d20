import '@fontsource-variable/figtree'
import '@fontsource/ibm-plex-mono/400.css'
import 'vuetify/styles'
import './shell/looks.css'

import { createPinia } from 'pinia'
import { createApp } from 'vue'

import App from './App.vue'
import { router } from './router'
import { vuetify } from './shell/theme'

createApp(App).use(createPinia()).use(router).use(vuetify).mount('#app')
