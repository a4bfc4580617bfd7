/** Steering a run under way, and what would come of it. */
import { keepPreviousData, useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, toValue, type MaybeRefOrGetter } from 'vue'
import { api, body, type Schemas } from './client'

export type Wish = Partial<Schemas['WishIn']> & { verb: Schemas['Verb'] }
const LOOK_MS = 200
const PATIENCE_MS = 10_000
/** What is drawn of a wish moves on with the clock. */
const ANEW_MS = 2_000

const asked = (wish: Wish): Schemas['WishIn'] => ({
  group: '',
  region: '',
  over_s: 0,
  why: '',
  ...wish,
})

/** What would come of a wish if it were made now. */
export function useProspect(run: number, wish: MaybeRefOrGetter<Wish | null>) {
  return useQuery({
    queryKey: computed(() => ['run', run, 'prospect', toValue(wish)]),
    enabled: computed(() => toValue(wish) !== null),
    queryFn: () =>
      body(
        api.POST('/api/runs/{run_id}/prospect', {
          params: { path: { run_id: run } },
          body: asked(toValue(wish) ?? { verb: 'hold' }),
        }),
      ),
    refetchInterval: ANEW_MS,
    gcTime: 0,
    placeholderData: keepPreviousData,
  })
}

/** Make a wish, and wait for what the run's lead says to it. */
export function useWish(run: number) {
  const client = useQueryClient()
  const path = { params: { path: { run_id: run } } }
  return useMutation({
    mutationFn: async (wish: Wish) => {
      const made = await body(api.POST('/api/runs/{run_id}/wishes', { ...path, body: asked(wish) }))
      const until = Date.now() + PATIENCE_MS
      let line: Schemas['WishLine'] = made
      while (line.accepted === null && Date.now() < until) {
        await new Promise((next) => setTimeout(next, LOOK_MS))
        const all = await body(api.GET('/api/runs/{run_id}/wishes', path))
        line = all.find((one) => one.id === made.id) ?? line
      }
      return line
    },
    // Not waited for: the answer is told at once.
    onSettled: () => void client.invalidateQueries({ queryKey: ['run', run] }),
  })
}
