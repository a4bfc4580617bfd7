/** Queries and changes of targets: the hosts that load may go to. */
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, toValue, type MaybeRefOrGetter } from 'vue'
import { api, body, type Schemas } from './client'

export type TargetLine = Schemas['TargetLine']
export type TargetUse = Schemas['TargetUse']
export type Terms = Schemas['Terms']
export type Hours = Schemas['ClosedHoursBody']
export type Written = Schemas['TermsBody']
export const DAYS = ['Mon', 'Tue', 'Wed', 'Thu', 'Fri', 'Sat', 'Sun']

const all = ['targets']
const of = (target: number) => ({ path: { target_id: target } })

export function useTargets() {
  return useQuery({ queryKey: [...all, 'list'], queryFn: () => body(api.GET('/api/targets')) })
}

/** Where a system or an experiment leads outside of this machine. */
export function useTargetUses(kind: 'system' | 'experiment', id: MaybeRefOrGetter<number>) {
  return useQuery({
    queryKey: computed(() => [...all, kind, toValue(id)]),
    queryFn: () =>
      kind === 'system'
        ? body(
            api.GET('/api/systems/{system_id}/targets', {
              params: { path: { system_id: toValue(id) } },
            }),
          )
        : body(
            api.GET('/api/experiments/{experiment_id}/targets', {
              params: { path: { experiment_id: toValue(id) } },
            }),
          ),
  })
}

function useTargetChange<T>(send: (given: T) => Promise<TargetLine>) {
  const client = useQueryClient()
  return useMutation({
    mutationFn: send,
    onSettled: () => client.invalidateQueries({ queryKey: all }),
  })
}

/** Save what was written: a new target of one of the two ways, or another form of one there is. */
export function useSaveTarget() {
  return useTargetChange(
    ({ id, way, written }: { id?: number; way: TargetLine['way']; written: Written }) => {
      if (id !== undefined)
        return body(api.PUT('/api/targets/{target_id}', { params: of(id), body: written }))
      return way === 'entered'
        ? body(api.POST('/api/targets/entries', { body: written }))
        : body(api.POST('/api/targets/claims', { body: written }))
    },
  )
}

export function useProve() {
  return useTargetChange((id: number) =>
    body(api.POST('/api/targets/{target_id}/proof', { params: of(id) })),
  )
}

export function useRemoveTarget() {
  return useTargetChange((id: number) =>
    body(api.DELETE('/api/targets/{target_id}', { params: of(id) })),
  )
}

export function useBringBackTarget() {
  return useTargetChange((id: number) =>
    body(api.POST('/api/targets/{target_id}/restore', { params: of(id) })),
  )
}
