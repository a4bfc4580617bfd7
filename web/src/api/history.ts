/** Runs over time: baselines, histories, and what people note of runs. */
import { keepPreviousData, useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, toValue, type MaybeRefOrGetter } from 'vue'
import { api, body, type Schemas } from './client'

export type History = Schemas['HistoryAnswer']
export type FigureHistory = Schemas['FigureHistory']

export function useHistory(
  id: MaybeRefOrGetter<number>,
  load: MaybeRefOrGetter<number | null> = null,
  wanted: MaybeRefOrGetter<boolean> = true,
) {
  return useQuery({
    queryKey: computed(() => ['history', toValue(id), toValue(load)]),
    queryFn: () =>
      body(
        api.GET('/api/experiments/{experiment_id}/history', {
          params: {
            path: { experiment_id: toValue(id) },
            query: { load: toValue(load) ?? undefined },
          },
        }),
      ),
    placeholderData: keepPreviousData,
    enabled: computed(() => toValue(wanted)),
    staleTime: 30_000,
  })
}

export function useSystemHistory(id: MaybeRefOrGetter<number>) {
  return useQuery({
    queryKey: computed(() => ['history', 'system', toValue(id)]),
    queryFn: () =>
      body(
        api.GET('/api/systems/{system_id}/history', {
          params: { path: { system_id: toValue(id) } },
        }),
      ),
  })
}

export function useBaselines(experiment: number) {
  return useQuery({
    queryKey: ['history', experiment, 'baselines'],
    queryFn: () =>
      body(
        api.GET('/api/experiments/{experiment_id}/baselines', {
          params: { path: { experiment_id: experiment } },
        }),
      ),
  })
}

/** What is said of a run shows in it, in the list of runs and in the history. */
function useChange<T>(id: number, change: (given: T) => Promise<unknown>) {
  const client = useQueryClient()
  return useMutation({
    mutationFn: change,
    onSuccess: () =>
      Promise.all(
        [['run', id], ['runs'], ['history']].map((queryKey) =>
          client.invalidateQueries({ queryKey }),
        ),
      ),
  })
}

const at = (id: number) => ({ path: { run_id: id } })

/** Take the run as baseline, or no longer. */
export function useTakeBaseline(id: number) {
  return useChange(id, async (taken: boolean) => {
    await body(
      taken
        ? api.POST('/api/runs/{run_id}/baseline', { params: at(id) })
        : api.DELETE('/api/runs/{run_id}/baseline', { params: at(id) }),
    )
  })
}

export function useRemark(id: number) {
  return useChange(id, async (remark: string) => {
    await body(api.PUT('/api/runs/{run_id}/remark', { params: at(id), body: { remark } }))
  })
}

/** Leave the run out of the history for a reason; without one it is taken in again. */
export function useLeaveOut(id: number) {
  return useChange(id, async (why: string) => {
    await body(api.PUT('/api/runs/{run_id}/left-out', { params: at(id), body: { why } }))
  })
}

/** The load that is expected at the peak of an experiment; null: none. It shows in its runs. */
export function useExpectPeak(experiment: number) {
  const client = useQueryClient()
  return useMutation({
    mutationFn: (peak: Schemas['PeakBody']) =>
      body(
        api.PUT('/api/experiments/{experiment_id}/peak', {
          params: { path: { experiment_id: experiment } },
          body: peak,
        }),
      ),
    onSuccess: () => client.invalidateQueries({ queryKey: ['run'] }),
  })
}
