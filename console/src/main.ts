import './app/older'

import 'vuetify/styles'
import './app/style.css'

import { createPinia } from 'pinia'
import { createApp } from 'vue'

import App from './app/App.vue'
import { router } from './app/router'
import { vuetify } from './app/theme'

createApp(App).use(createPinia()).use(router).use(vuetify).mount('#app')
