/** Queries and changes of experiments. */
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, toValue, type MaybeRefOrGetter } from 'vue'
import type { DraftBody, Step } from '@/ui/draft'
import { api, body, outlives, passed, type Schemas } from './client'
import { useJob } from './jobs'

export type ExperimentDetail = Schemas['ExperimentDetail']
export type PlanOutline = Schemas['PlanOutline']

const IDLE_MS = 4_000
const READY_MS = 10_000
const at = (id: MaybeRefOrGetter<number>) => ({ path: { experiment_id: toValue(id) } })

export function useExperiments(
  archived: MaybeRefOrGetter<boolean> = false,
  when: MaybeRefOrGetter<boolean> = true,
) {
  return useQuery({
    queryKey: computed(() => ['experiments', toValue(archived)]),
    queryFn: () =>
      body(api.GET('/api/experiments', { params: { query: { archived: toValue(archived) } } })),
    refetchInterval: IDLE_MS,
    enabled: computed(() => toValue(when)),
  })
}

export function useExperiment(id: MaybeRefOrGetter<number>) {
  return useQuery({
    queryKey: computed(() => ['experiment', toValue(id)]),
    queryFn: () => body(api.GET('/api/experiments/{experiment_id}', { params: at(id) })),
  })
}

/** What stands in the way of a run; asked again while somebody looks. */
/** An experiment as it is now, asked for once. */
export const experimentNow = (id: number) =>
  body(api.GET('/api/experiments/{experiment_id}', { params: at(id) }))

export function useReadiness(id: MaybeRefOrGetter<number>) {
  return useQuery({
    queryKey: computed(() => ['experiment', toValue(id), 'readiness']),
    queryFn: () => body(api.GET('/api/experiments/{experiment_id}/readiness', { params: at(id) })),
    refetchInterval: READY_MS,
  })
}

/** A change of an experiment whose answer is the experiment as it is now. */
function useChange<T>(id: number, change: (given: T) => Promise<ExperimentDetail>) {
  const client = useQueryClient()
  return useMutation({
    mutationFn: change,
    onSuccess: async (detail) => {
      await passed(client, ['experiment', id])
      client.setQueryData(['experiment', id], detail)
      void client.invalidateQueries({ queryKey: ['experiments'] })
      // A revision that is typed on keeps its key: what was told of it is old all the same.
      void client.invalidateQueries({ queryKey: ['experiment', id, 'readiness'] })
      void client.invalidateQueries({ queryKey: ['experiment', id, 'forecast'] })
    },
  })
}

export function useSaveExperiment(id: number) {
  return useChange(id, (given: DraftBody) =>
    body(
      api.PUT('/api/experiments/{experiment_id}', {
        params: at(id),
        body: given,
        keepalive: outlives(given),
      }),
    ),
  )
}

export function useExperimentStep(id: number) {
  return useChange(id, ({ way, base }: Step) =>
    way === 'undo'
      ? body(
          api.POST('/api/experiments/{experiment_id}/undo', {
            params: at(id),
            body: { base },
            keepalive: true,
          }),
        )
      : body(
          api.POST('/api/experiments/{experiment_id}/redo', {
            params: at(id),
            body: { base },
            keepalive: true,
          }),
        ),
  )
}

export function useRestore(id: number) {
  return useChange(id, (revision: number) =>
    body(
      api.POST('/api/experiments/{experiment_id}/restore', { params: at(id), body: { revision } }),
    ),
  )
}

export function useArchiveExperiment(id: number) {
  return useChange(id, (archived: boolean) =>
    body(
      api.POST('/api/experiments/{experiment_id}/archive', { params: at(id), body: { archived } }),
    ),
  )
}

export function useDuplicateExperiment(id: number) {
  return useMutation({
    mutationFn: () =>
      body(api.POST('/api/experiments/{experiment_id}/duplicate', { params: at(id) })),
  })
}

/** What the load would see, by what is known of the system; asked anew for every revision. */
export function useForecast(id: number, revision: MaybeRefOrGetter<number | undefined>) {
  return useQuery({
    queryKey: computed(() => ['experiment', id, 'forecast', toValue(revision)]),
    queryFn: () => body(api.GET('/api/experiments/{experiment_id}/forecast', { params: at(id) })),
  })
}

/** Play it in virtual time; done once its findings are there. */
export function useRehearse(id: number) {
  const client = useQueryClient()
  return useJob(
    () => body(api.POST('/api/experiments/{experiment_id}/rehearsals', { params: at(id) })),
    'rehearsal',
    () => client.invalidateQueries({ queryKey: ['runs'] }),
  )
}

export function useCreateExperiment() {
  const client = useQueryClient()
  return useMutation({
    mutationFn: (source: string) => body(api.POST('/api/experiments', { body: { source } })),
    onSuccess: () => client.invalidateQueries({ queryKey: ['experiments'] }),
  })
}

export function useCheckPlan() {
  return useMutation({
    mutationFn: (source: string) => body(api.POST('/api/plans/check', { body: { source } })),
  })
}
