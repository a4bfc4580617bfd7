import { keepPreviousData, useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, ref, toValue, watch, type MaybeRefOrGetter } from 'vue'
import { api, body } from './client'
import { useJob } from './jobs'
import { cursor, hasNewSecond, joined, type LivePlate, type Shown } from './livePlate'
import { NOW } from './now'
import { Pace } from './pace'

const LIVE_MS = 1_000
/** What is told of a live run beside its measurements; that there is something new is heard with its plate at once. */
const DETAIL_MS = 60_000

export function useMe() {
  return useQuery({ queryKey: ['me'], queryFn: () => body(api.GET('/api/me')), staleTime: 30_000 })
}

export function useRuns(
  filter: MaybeRefOrGetter<{ experiment?: number; before?: number }> = {},
  when: MaybeRefOrGetter<boolean> = true,
) {
  return useQuery({
    queryKey: computed(() => ['runs', toValue(filter)]),
    queryFn: () => body(api.GET('/api/runs', { params: { query: toValue(filter) } })),
    refetchInterval: 2_000,
    placeholderData: keepPreviousData,
    enabled: computed(() => toValue(when)),
  })
}

export function useRun(id: MaybeRefOrGetter<number>) {
  const client = useQueryClient()
  const run = useQuery({
    queryKey: computed(() => ['run', toValue(id)]),
    queryFn: () =>
      body(api.GET('/api/runs/{run_id}', { params: { path: { run_id: toValue(id) } } })),
    refetchInterval: (query) => (query.state.data?.ended ? false : DETAIL_MS),
  })
  watch(
    () => run.data.value?.state,
    // The bar on top must not say otherwise.
    (_, before) => before !== undefined && void client.invalidateQueries({ queryKey: NOW }),
  )
  return run
}

/** The plate of a run: the page holds what it has read, and each look asks only for what is new. */
export function usePlate(
  id: MaybeRefOrGetter<number>,
  live: MaybeRefOrGetter<boolean>,
  shown: MaybeRefOrGetter<Shown>,
  how: { every?: number; when?: MaybeRefOrGetter<boolean> } = {},
) {
  const client = useQueryClient()
  const pace = new Pace(how.every ?? LIVE_MS)
  const next = ref(pace.every)
  return useQuery<LivePlate>({
    queryKey: computed(() => ['plate', toValue(id), toValue(shown)]),
    // Another choice of the same run's: the picture stays until it is there.
    placeholderData: (before, query) => (query?.queryKey[1] === toValue(id) ? before : undefined),
    queryFn: async ({ queryKey }) => {
      const have = client.getQueryData<LivePlate>(queryKey)
      const params = { path: { run_id: toValue(id) }, query: cursor(have, toValue(shown)) }
      const began = performance.now()
      const fresh = await body(api.GET('/api/runs/{run_id}/plate', { params }))
      next.value = pace.after(hasNewSecond(have, fresh), performance.now() - began)
      return joined(have, fresh)
    },
    // A ref, not a function: it must be looked at again when the run turns live or ends.
    refetchInterval: computed(() => (toValue(live) ? next.value : false)),
    enabled: computed(() => toValue(how.when) ?? true),
    // Hundreds of columns that are replaced, never changed: nobody watches their values, nor compares them.
    shallow: true,
    structuralSharing: false,
  })
}

export function useSignIn() {
  const client = useQueryClient()
  return useMutation({
    mutationFn: (given: { name: string; password: string }) =>
      body(api.POST('/api/sign-in', { body: given })),
    onSuccess: (me) => client.setQueryData(['me'], me),
  })
}

export function useSignOut() {
  const client = useQueryClient()
  return useMutation({
    mutationFn: () => body(api.POST('/api/sign-out')),
    onSuccess: () => client.clear(),
  })
}

export function useStartRun() {
  const client = useQueryClient()
  return useMutation({
    mutationFn: (asked: { experiment: number; times: number }) =>
      body(
        api.POST('/api/experiments/{experiment_id}/runs', {
          params: { path: { experiment_id: asked.experiment }, query: { times: asked.times } },
        }),
      ),
    onSuccess: async () => {
      await client.invalidateQueries({ queryKey: ['runs'] })
      await client.invalidateQueries({ queryKey: NOW })
    },
  })
}

export function useStopRun() {
  const client = useQueryClient()
  return useMutation({
    mutationFn: (run: number) =>
      body(api.POST('/api/runs/{run_id}/stop', { params: { path: { run_id: run } } })),
    onSuccess: (_, run) => client.invalidateQueries({ queryKey: ['run', run] }),
  })
}

/** A run compared with another one. */
/** Further runs on either side of a comparison. */
export interface Pooled {
  run: number[]
  other: number[]
}

export function useComparison(
  id: MaybeRefOrGetter<number>,
  other: MaybeRefOrGetter<number>,
  pooled: MaybeRefOrGetter<Pooled>,
) {
  return useQuery({
    queryKey: computed(() => ['run', toValue(id), 'against', toValue(other), toValue(pooled)]),
    queryFn: () =>
      body(
        api.GET('/api/runs/{run_id}/against/{other_id}', {
          params: {
            path: { run_id: toValue(id), other_id: toValue(other) },
            query: toValue(pooled),
          },
        }),
      ),
    placeholderData: keepPreviousData,
  })
}

/** Play a rehearsal once more with everything longer. */
export function useLongerLevels(run: number) {
  return useJob(
    () => body(api.POST('/api/runs/{run_id}/longer', { params: { path: { run_id: run } } })),
    'longer levels',
  )
}

/** Take a run out of every list, or have it back. */
export function useKeepRun() {
  const client = useQueryClient()
  return useMutation({
    mutationFn: ({ run, kept }: { run: number; kept: boolean }) =>
      body(
        api.POST('/api/runs/{run_id}/keep', {
          params: { path: { run_id: run } },
          body: { kept },
        }),
      ),
    onSuccess: (_, { run }) => client.invalidateQueries({ queryKey: ['run', run] }),
  })
}

export function useDeleteRun() {
  const client = useQueryClient()
  return useMutation({
    mutationFn: ({ run, back }: { run: number; back: boolean }) => {
      const params = { params: { path: { run_id: run } } }
      return back
        ? body(api.POST('/api/runs/{run_id}/restore', params))
        : body(api.DELETE('/api/runs/{run_id}', params))
    },
    onSuccess: async (_, { run }) => {
      await client.invalidateQueries({ queryKey: ['run', run] })
      await client.invalidateQueries({ queryKey: ['runs'] })
      await client.invalidateQueries({ queryKey: ['experiments'] })
    },
  })
}
