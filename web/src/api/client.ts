import { QueryClient } from '@tanstack/vue-query'
import createClient, { type Middleware } from 'openapi-fetch'
import type { components, paths } from './schema'
import { ProblemError, readProblem } from './problem'

export type Schemas = components['schemas']

function csrfToken(): string {
  return /(?:^|; )kettle_csrf=([^;]+)/.exec(document.cookie)?.[1] ?? ''
}

const guard: Middleware = {
  onRequest({ request }) {
    if (request.method !== 'GET') request.headers.set('X-CSRFToken', csrfToken())
    return request
  },
  async onResponse({ response }) {
    if (!response.ok) throw new ProblemError(await readProblem(response))
  },
}

export const api = createClient<paths>({ baseUrl: window.location.origin })
api.use(guard)

/** The body of an answer; every refusal has become a ProblemError before. */
export async function body<T>(call: Promise<{ data?: T }>): Promise<T> {
  const { data } = await call
  return data as T
}

export const queryClient = new QueryClient({
  defaultOptions: {
    queries: {
      retry: (count, error) => count < 2 && !(error instanceof ProblemError),
      staleTime: 2_000,
    },
  },
})

/** A form with a file as a body; the generated types know only JSON. */
export function form(parts: Record<string, string | File | string[]>): never {
  const data = new FormData()
  for (const [key, value] of Object.entries(parts))
    for (const part of Array.isArray(value) ? value : [value]) data.append(key, part)
  return data as never
}

const MOST_KEPT_ALIVE = 60_000

/** Whether a request of this body may outlive the page that sends it: browsers bound what may. */
export function outlives(given: unknown): boolean {
  return JSON.stringify(given).length < MOST_KEPT_ALIVE
}

/** Let go of what was asked before a change and would be answered after it: it is old by then. */
export async function passed(client: QueryClient, queryKey: unknown[]): Promise<void> {
  await client.cancelQueries({ queryKey, exact: true })
}
