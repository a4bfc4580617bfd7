/** Candidates that take turns. */
import { keepPreviousData, useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, toValue, type MaybeRefOrGetter } from 'vue'
import { api, body, type Schemas } from './client'

export type SeriesDetail = Schemas['SeriesDetail']
export type SeriesFindings = Schemas['SeriesFindings']
export type ScalingFindings = Schemas['ScalingFindings']
export type Between = Schemas['BetweenLine']
const LOOK_MS = 2_000
const at = (id: number) => ({ path: { series_id: id } })

export function useSeries(id: MaybeRefOrGetter<number>) {
  return useQuery({
    queryKey: computed(() => ['series', toValue(id)]),
    queryFn: () => body(api.GET('/api/series/{series_id}', { params: at(toValue(id)) })),
    refetchInterval: (query) => (query.state.data?.state === 'going' ? LOOK_MS : false),
  })
}

/** What the turns tell; asked anew whenever another one is `over`. */
export function useSeriesFindings(
  id: MaybeRefOrGetter<number>,
  over: MaybeRefOrGetter<number | undefined>,
) {
  return useQuery({
    queryKey: computed(() => ['series', toValue(id), 'findings', toValue(over)]),
    queryFn: () => body(api.GET('/api/series/{series_id}/findings', { params: at(toValue(id)) })),
    enabled: computed(() => toValue(over) !== undefined),
    placeholderData: keepPreviousData,
  })
}

/** What the values tell where something is scaled; asked anew whenever another turn is `over`. */
export function useScaling(id: MaybeRefOrGetter<number>, over: MaybeRefOrGetter<number>) {
  return useQuery({
    queryKey: computed(() => ['series', toValue(id), 'scaling', toValue(over)]),
    queryFn: () => body(api.GET('/api/series/{series_id}/scaling', { params: at(toValue(id)) })),
    placeholderData: keepPreviousData,
  })
}

export function useSeriesOf(experiment: MaybeRefOrGetter<number>) {
  return useQuery({
    queryKey: computed(() => ['series', 'of', toValue(experiment)]),
    queryFn: () =>
      body(
        api.GET('/api/experiments/{experiment_id}/series', {
          params: { path: { experiment_id: toValue(experiment) } },
        }),
      ),
    refetchInterval: (query) =>
      query.state.data?.some((one) => one.state === 'going') ? LOOK_MS : false,
  })
}

export function useStartSeries() {
  const client = useQueryClient()
  return useMutation({
    mutationFn: (experiment: number) =>
      body(
        api.POST('/api/experiments/{experiment_id}/series', {
          params: { path: { experiment_id: experiment } },
        }),
      ),
    onSuccess: () =>
      Promise.all([
        client.invalidateQueries({ queryKey: ['series'] }),
        client.invalidateQueries({ queryKey: ['runs'] }),
      ]),
  })
}

export function useStopSeries(id: number) {
  const client = useQueryClient()
  return useMutation({
    mutationFn: () => body(api.POST('/api/series/{series_id}/stop', { params: at(id) })),
    onSuccess: () => client.invalidateQueries({ queryKey: ['series'] }),
  })
}
