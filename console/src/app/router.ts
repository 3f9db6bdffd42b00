import { createRouter, createWebHistory } from 'vue-router'

import { base } from '../api/base'

/** Each area is loaded when it is opened. */
export const router = createRouter({
  history: createWebHistory(`${base}/`),
  routes: [
    { path: '/', redirect: '/bench' },
    { path: '/bench', component: () => import('../areas/bench/Bench.vue') },
    { path: '/shelf', component: () => import('../areas/shelf/Shelf.vue') },
    { path: '/shelf/:name', component: () => import('../areas/layers/Layers.vue') },
    { path: '/shelf/:name/rehearsal', component: () => import('../areas/rehearsal/Rehearsal.vue') },
    { path: '/heat', component: () => import('../areas/heat/Heat.vue') },
    { path: '/wire', component: () => import('../areas/wire/Wire.vue') },
    { path: '/setup', component: () => import('../areas/setup/Setup.vue') },
  ],
})
