<script setup lang="ts">
import { mdiConsoleLine, mdiGauge, mdiThermometer, mdiTrayFull } from '@mdi/js'
import { onMounted } from 'vue'
import { useDisplay } from 'vuetify'

import { inWords } from './api/client'
import { useHost } from './live/host'
import HaltButton from './parts/HaltButton.vue'
import LinkChip from './parts/LinkChip.vue'

const host = useHost()
const { mdAndUp } = useDisplay()
const areas = [
  { title: 'Bench', to: '/bench', icon: mdiGauge },
  { title: 'Shelf', to: '/shelf', icon: mdiTrayFull },
  { title: 'Heat', to: '/heat', icon: mdiThermometer },
  { title: 'Wire', to: '/wire', icon: mdiConsoleLine },
]
onMounted(host.listen)
</script>

<template>
  <v-app>
    <v-app-bar flat border="b" color="surface">
      <div class="d-flex align-center ga-3 ps-4 flex-grow-1" style="min-width: 0">
        <h1 class="text-title-large text-truncate">{{ host.printer?.name ?? 'Diathermon' }}</h1>
        <LinkChip />
      </div>
      <HaltButton class="me-3" />
    </v-app-bar>
    <v-navigation-drawer v-if="mdAndUp" permanent color="surface" width="168">
      <v-list nav aria-label="Areas">
        <v-list-item v-for="a in areas" :key="a.to" :to="a.to" :title="a.title" :prepend-icon="a.icon" rounded="lg" />
      </v-list>
    </v-navigation-drawer>
    <v-bottom-navigation v-else grow color="primary" aria-label="Areas">
      <v-btn v-for="a in areas" :key="a.to" :to="a.to" :value="a.to">
        <v-icon :icon="a.icon" /><span>{{ a.title }}</span>
      </v-btn>
    </v-bottom-navigation>
    <v-main>
      <v-container fluid class="pa-3 pa-sm-5" style="max-width: 1280px">
        <router-view />
      </v-container>
    </v-main>
    <v-snackbar :model-value="host.problem !== undefined" :timeout="-1" color="error" location="top" role="alert" @update:model-value="host.problem = undefined">
      {{ host.problem ? inWords(host.problem) : '' }}
      <template #actions><v-btn variant="text" @click="host.problem = undefined">Dismiss</v-btn></template>
    </v-snackbar>
  </v-app>
</template>
