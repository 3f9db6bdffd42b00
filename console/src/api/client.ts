import createClient from 'openapi-fetch'

import { at, base } from './base'
import type { components, paths } from './schema.gen'

export type Schemas = components['schemas']
export type Problem = Schemas['Problem']

/** The live events, by name, as the service describes them. */
type Frame = paths['/v1/events']['get']['responses'][200]['content']['text/event-stream'][number]
export type Events = { [F in Frame as F['event']]: F['data'] }

/** The service's API, typed by its own description. */
export const api = createClient<paths>({ baseUrl: base, querySerializer: { array: { style: 'form', explode: false } } })

/** What an operation answered, or its problem thrown. */
export async function answered<T>(call: Promise<{ data?: T, error?: unknown, response: Response }>): Promise<T> {
  let result
  try {
    result = await call
  } catch {
    throw unreachable()
  }
  if (result.response.status === 401) location.assign(at('/sign-in'))
  if (result.error !== undefined) throw asProblem(result.error, result.response.status)
  return result.data as T
}

export function unreachable(): Problem {
  return { status: 0, title: 'the host does not answer', detail: 'is it running, and is this device on its network?' }
}

export function asProblem(error: unknown, status: number): Problem {
  if (typeof error === 'object' && error !== null && 'title' in error) return error as Problem
  return { status, title: `the host answered ${status}` }
}

/** A problem in one sentence or two. */
export function inWords(problem: Problem): string {
  return [problem.title, problem.detail, ...(problem.fields ?? [])].filter(Boolean).join(': ')
}

/** Stores a file, telling the share that has gone out; fetch cannot tell that. */
export function upload(file: File, replace: boolean, told: (share: number) => void): Promise<Schemas['Stored']> {
  return new Promise((resolve, reject) => {
    const request = new XMLHttpRequest()
    request.open('PUT', at(`/v1/shelf/${encodeURIComponent(file.name)}${replace ? '?replace=true' : ''}`))
    request.responseType = 'json'
    request.upload.onprogress = e => told(e.lengthComputable ? e.loaded / e.total : 0)
    request.onerror = () => reject(unreachable())
    request.onload = () => {
      if (request.status < 300) resolve(request.response as Schemas['Stored'])
      else reject(asProblem(request.response, request.status))
    }
    request.send(file)
  })
}
