/** Queries and changes of capacity plans. */
import { keepPreviousData, useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, toValue, type MaybeRefOrGetter } from 'vue'
import type { DraftBody, Step } from '@/ui/draft'
import { api, body, outlives, passed, type Schemas } from './client'

export type CapacityAnswer = Schemas['CapacityAnswer']
export type CapacityDetail = Schemas['CapacityDetail']

const at = (id: MaybeRefOrGetter<number>) => ({ path: { plan_id: toValue(id) } })

export function useCapacityPlans(archived: MaybeRefOrGetter<boolean> = false) {
  return useQuery({
    queryKey: computed(() => ['capacity plans', toValue(archived)]),
    queryFn: () =>
      body(api.GET('/api/capacity', { params: { query: { archived: toValue(archived) } } })),
  })
}

export function useCapacityPlan(id: MaybeRefOrGetter<number>) {
  return useQuery({
    queryKey: computed(() => ['capacity plan', toValue(id)]),
    queryFn: () => body(api.GET('/api/capacity/{plan_id}', { params: at(id) })),
  })
}

/** What a plan comes to; asked anew with each saved `state` of it. */
export function useCapacityAnswer(
  id: MaybeRefOrGetter<number>,
  state: MaybeRefOrGetter<string | undefined>,
) {
  return useQuery({
    queryKey: computed(() => ['capacity plan', toValue(id), 'answer', toValue(state)]),
    queryFn: () => body(api.GET('/api/capacity/{plan_id}/answer', { params: at(id) })),
    enabled: computed(() => toValue(state) !== undefined),
    placeholderData: keepPreviousData,
    retry: false,
  })
}

/** What would be needed if something were otherwise; asked once somebody looks. */
export function useOtherwise(
  id: MaybeRefOrGetter<number>,
  state: MaybeRefOrGetter<string | undefined>,
  open: MaybeRefOrGetter<boolean>,
) {
  return useQuery({
    queryKey: computed(() => ['capacity plan', toValue(id), 'otherwise', toValue(state)]),
    queryFn: () => body(api.GET('/api/capacity/{plan_id}/otherwise', { params: at(id) })),
    enabled: computed(() => toValue(open) && toValue(state) !== undefined),
    placeholderData: keepPreviousData,
    retry: false,
  })
}

/** A change of a plan whose answer is the plan as it is now. */
function useChange<T>(id: number, change: (given: T) => Promise<CapacityDetail>) {
  const client = useQueryClient()
  return useMutation({
    mutationFn: change,
    onSuccess: async (detail) => {
      await passed(client, ['capacity plan', id])
      client.setQueryData(['capacity plan', id], detail)
      void client.invalidateQueries({ queryKey: ['capacity plans'] })
    },
  })
}

export function useSaveCapacityPlan(id: number) {
  return useChange(id, (given: DraftBody) =>
    body(
      api.PUT('/api/capacity/{plan_id}', {
        params: at(id),
        body: given,
        keepalive: outlives(given),
      }),
    ),
  )
}

export function useStepCapacityPlan(id: number) {
  return useChange(id, ({ way, base }: Step) => {
    const asked = { params: at(id), body: { base }, keepalive: true }
    return body(
      way === 'undo'
        ? api.POST('/api/capacity/{plan_id}/undo', asked)
        : api.POST('/api/capacity/{plan_id}/redo', asked),
    )
  })
}

export function useArchiveCapacityPlan(id: number) {
  return useChange(id, (archived: boolean) =>
    body(api.POST('/api/capacity/{plan_id}/archive', { params: at(id), body: { archived } })),
  )
}

export function useDuplicateCapacityPlan(id: number) {
  const client = useQueryClient()
  return useMutation({
    mutationFn: () => body(api.POST('/api/capacity/{plan_id}/duplicate', { params: at(id) })),
    onSuccess: () => client.invalidateQueries({ queryKey: ['capacity plans'] }),
  })
}

export function useCreateCapacityPlan() {
  const client = useQueryClient()
  return useMutation({
    mutationFn: (given: { source?: string; system_id?: number }) =>
      body(api.POST('/api/capacity', { body: given })),
    onSuccess: () => client.invalidateQueries({ queryKey: ['capacity plans'] }),
  })
}

/** What was foretold of a plan each time it was tried, beside what came of it. */
export function useTrials(id: MaybeRefOrGetter<number>) {
  return useQuery({
    queryKey: computed(() => ['capacity plan', toValue(id), 'trials']),
    queryFn: () => body(api.GET('/api/capacity/{plan_id}/trials', { params: at(id) })),
  })
}

export function useMakeTrial(id: number) {
  const client = useQueryClient()
  return useMutation({
    mutationFn: () => body(api.POST('/api/capacity/{plan_id}/trials', { params: at(id) })),
    onSuccess: () => client.invalidateQueries({ queryKey: ['capacity plan', id, 'trials'] }),
  })
}
