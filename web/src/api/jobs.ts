/** Work that takes a while: begun by a request, then watched until it ends, or cancelled. */
import { useMutation } from '@tanstack/vue-query'
import { onScopeDispose, ref } from 'vue'
import { api, body, type Schemas } from './client'
import { ProblemError } from './problem'

export type JobDetail = Schemas['JobDetail']
type Outcome = NonNullable<JobDetail['outcome']>
export type OutcomeOf<K extends Outcome['kind']> = Extract<Outcome, { kind: K }>

const FIRST_LOOK_MS = 120
const SLOWEST_LOOK_MS = 500

/** How far a job is, for whoever waits. */
export interface Progress {
  text: string
  done: number
  total: number
}

class Cancelled extends Error {}

/**
 * A change that is done as a job: `begin` asks for it; `ended` hears its outcome before the change counts as
 * done. It can be cancelled, and is when whoever asked for it goes away.
 */
export function useJob<Given, K extends Outcome['kind']>(
  begin: (given: Given) => Promise<{ job: number }>,
  kind: K,
  ended: (outcome: OutcomeOf<K>) => unknown = () => undefined,
) {
  const progress = ref<Progress | null>(null)
  let current = 0
  let running: number | null = null

  async function cancel() {
    current += 1
    const job = running
    running = progress.value = null
    if (job !== null)
      await api
        .DELETE('/api/jobs/{job_id}', { params: { path: { job_id: job } } })
        .catch(() => null)
  }
  onScopeDispose(() => void cancel())

  const change = useMutation({
    mutationFn: async (given: Given): Promise<OutcomeOf<K>> => {
      await cancel()
      const mine = (current += 1)
      progress.value = { text: 'Sending', done: 0, total: 0 }
      try {
        const { job } = await begin(given)
        if (mine !== current) {
          running = job
          await cancel()
          throw new Cancelled()
        }
        running = job
        const outcome = await watched(
          job,
          kind,
          () => mine === current,
          (p) => (progress.value = p),
        )
        await ended(outcome)
        return outcome
      } finally {
        if (mine === current) running = progress.value = null
      }
    },
    onError: (error) => {
      if (error instanceof Cancelled) change.reset()
    },
  })
  return { ...change, progress, cancel }
}

/** The outcome of a job once it has ended; its problem is thrown. */
async function watched<K extends Outcome['kind']>(
  job: number,
  kind: K,
  wanted: () => boolean,
  tell: (progress: Progress) => void,
): Promise<OutcomeOf<K>> {
  for (let wait = FIRST_LOOK_MS; ; wait = Math.min(wait * 1.3, SLOWEST_LOOK_MS)) {
    await new Promise((resolve) => setTimeout(resolve, wait))
    if (!wanted()) throw new Cancelled()
    const found = await body(api.GET('/api/jobs/{job_id}', { params: { path: { job_id: job } } }))
    if (!wanted() || found.state === 'cancelled') throw new Cancelled()
    if (found.problem) throw new ProblemError(found.problem)
    if (found.outcome?.kind === kind) return found.outcome as OutcomeOf<K>
    tell({ text: found.text, done: found.done, total: found.total })
  }
}
