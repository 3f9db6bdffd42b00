import { createRouter, createWebHistory } from 'vue-router'

import Bench from './areas/Bench.vue'
import Heat from './areas/Heat.vue'
import Shelf from './areas/Shelf.vue'
import Wire from './areas/Wire.vue'

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', redirect: '/bench' },
    { path: '/bench', component: Bench },
    { path: '/heat', component: Heat },
    { path: '/shelf', component: Shelf },
    { path: '/wire', component: Wire },
  ],
})
