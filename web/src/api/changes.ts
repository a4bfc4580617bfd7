/** Changes of the system under a run. */
import { keepPreviousData, useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, toValue, type MaybeRefOrGetter } from 'vue'
import { api, body, type Schemas } from './client'

export type Changes = Schemas['Changes']
export type SystemChangeLine = Schemas['SystemChangeLine']
const WATCHED_MS = 1_500
const SETTLING_MS = 5_000

export function useChanges(run: MaybeRefOrGetter<number>, live: MaybeRefOrGetter<boolean>) {
  return useQuery({
    queryKey: computed(() => ['run', toValue(run), 'changes']),
    queryFn: () =>
      body(api.GET('/api/runs/{run_id}/changes', { params: { path: { run_id: toValue(run) } } })),
    refetchInterval: (query) => {
      const made = query.state.data?.made ?? []
      if (!toValue(live) || !made.length) return false
      return made.some((one) => one.state === 'asked' || one.state === 'accepted')
        ? WATCHED_MS
        : SETTLING_MS
    },
  })
}

export function useAskChange(run: number) {
  const client = useQueryClient()
  return useMutation({
    mutationFn: (asked: { name: string; values: Record<string, string> }) =>
      body(
        api.POST('/api/runs/{run_id}/changes', { params: { path: { run_id: run } }, body: asked }),
      ),
    onSettled: () => client.invalidateQueries({ queryKey: ['run', run, 'changes'] }),
  })
}

export type StormFindings = Schemas['StormFindings']
export type StormDisk = Schemas['StormDisk']

/** How soon those were ready that a change started; asked anew while they come. */
export function useStorm(
  run: MaybeRefOrGetter<number>,
  change: MaybeRefOrGetter<number>,
  against: MaybeRefOrGetter<number | undefined>,
) {
  return useQuery({
    queryKey: computed(() => ['storm', toValue(run), toValue(change), toValue(against)]),
    queryFn: () =>
      body(
        api.GET('/api/runs/{run_id}/changes/{change_id}', {
          params: {
            path: { run_id: toValue(run), change_id: toValue(change) },
            query: { against: toValue(against) ?? null },
          },
        }),
      ),
    placeholderData: keepPreviousData,
    refetchInterval: (query) =>
      ['asked', 'accepted'].includes(query.state.data?.state ?? '') ? WATCHED_MS : false,
  })
}
