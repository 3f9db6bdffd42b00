import { defineStore } from 'pinia'
import { computed, ref } from 'vue'

import { answered, api, type Schemas } from '../api/client'
import { useHost } from './host'

/** What is stored of routines, and the one that is being performed. */
export const useRoutines = defineStore('routines', () => {
  const host = useHost()
  const all = ref<Schemas['Routine'][]>()
  const load = () => host.attempt(async () => { all.value = (await answered(api.GET('/v1/routines'))).routines })

  const going = computed(() => host.routine !== undefined && host.routine.id !== '' && !host.routine.ended)
  /** Why none can be begun now; empty: one can. */
  const not = computed(() => !host.live ? 'the printer does not answer' : going.value ? `${host.routine!.routine} is being performed` : host.run?.going && host.run.state !== 'held' ? `${host.run.file} goes on` : '')
  const fits = (r: Schemas['Routine']) => r.trouble ? r.trouble : not.value || (host.run?.going ? (r.held ? '' : 'not while a run is held') : r.idle ? '' : 'only while a run is held')

  const perform = (name: string, values: Record<string, string>) => host.attempt(async () => {
    host.routine = await answered(api.POST('/v1/routines/{name}/performances', { params: { path: { name } }, body: { values } }))
  })
  const stop = () => host.attempt(() => answered(api.POST('/v1/performances/{id}/stop', { params: { path: { id: host.routine!.id } } })))
  const answer = (question: number, answer: string) => host.attempt(async () => {
    host.routine = await answered(api.POST('/v1/performances/{id}/answers', { params: { path: { id: host.routine!.id } }, body: { question, answer } }))
  })

  return { all, load, going, fits, perform, stop, answer }
})
