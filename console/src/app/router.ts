import { createRouter, createWebHistory } from 'vue-router'

import { base } from '../api/base'
import { useKept } from '../live/kept'
import { areas } from './areas'

/** The area that was open last is opened again. */
const last = useKept('area', '/bench', to => areas.some(a => a.to === to))

/** Each area is loaded when it is opened. */
export const router = createRouter({
  history: createWebHistory(`${base}/`),
  routes: [
    { path: '/', redirect: () => last.value },
    { path: '/bench', component: () => import('../areas/bench/Bench.vue') },
    { path: '/shelf', component: () => import('../areas/shelf/Shelf.vue') },
    { path: '/shelf/:name', component: () => import('../areas/layers/Layers.vue') },
    { path: '/shelf/:name/rehearsal', component: () => import('../areas/rehearsal/Rehearsal.vue') },
    { path: '/heat', component: () => import('../areas/heat/Heat.vue') },
    { path: '/motion', component: () => import('../areas/motion/Motion.vue') },
    { path: '/motion/routines', component: () => import('../areas/routines/Routines.vue') },
    { path: '/wire', component: () => import('../areas/wire/Wire.vue') },
    { path: '/setup/guide', component: () => import('../areas/setup/Guide.vue') },
    { path: '/setup', component: () => import('../areas/setup/Setup.vue') },
  ],
})

router.afterEach(to => { last.value = `/${to.path.split('/')[1]}` })
