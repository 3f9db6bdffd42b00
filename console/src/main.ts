import '@fontsource-variable/inter'
import 'vuetify/styles'
import './style.css'

import { createPinia } from 'pinia'
import { createApp } from 'vue'

import App from './App.vue'
import { router } from './router'
import { vuetify } from './theme'

createApp(App).use(createPinia()).use(router).use(vuetify).mount('#app')
