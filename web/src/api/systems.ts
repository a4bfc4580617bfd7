/** Queries and changes of systems. */
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, toValue, type MaybeRefOrGetter } from 'vue'
import type { DraftBody, Step } from '@/ui/draft'
import { api, body, outlives, passed, type Schemas } from './client'

const CHECK_EVERY_MS = 5_000

export type Pin = Schemas['PinBody']
export type MeterCheck = Schemas['MeterCheck']
export type ShelfMetric = Schemas['ShelfMetric']
export type SystemDetail = Schemas['SystemDetail']

/** The path parameters of a system's addresses. */
const at = (id: MaybeRefOrGetter<number>) => ({ path: { system_id: toValue(id) } })

export function useSystems(
  archived: MaybeRefOrGetter<boolean> = false,
  when: MaybeRefOrGetter<boolean> = true,
) {
  return useQuery({
    queryKey: computed(() => ['systems', toValue(archived)]),
    queryFn: () =>
      body(api.GET('/api/systems', { params: { query: { archived: toValue(archived) } } })),
    enabled: computed(() => toValue(when)),
  })
}

export function useSystem(id: MaybeRefOrGetter<number>) {
  return useQuery({
    queryKey: computed(() => ['system', toValue(id)]),
    queryFn: () => body(api.GET('/api/systems/{system_id}', { params: at(id) })),
  })
}

/** How long what is kept of a system's runs. */
export function useKeeping(id: MaybeRefOrGetter<number>) {
  return useQuery({
    queryKey: computed(() => ['system', toValue(id), 'keeping']),
    queryFn: () => body(api.GET('/api/systems/{system_id}/keeping', { params: at(id) })),
  })
}

export function useChangeKeeping(id: number) {
  const client = useQueryClient()
  return useMutation({
    mutationFn: (keeping: Schemas['Keeping']) =>
      body(api.PUT('/api/systems/{system_id}/keeping', { params: at(id), body: keeping })),
    onSuccess: (keeping) => client.setQueryData(['system', id, 'keeping'], keeping),
  })
}

export function useRunners(id: MaybeRefOrGetter<number>) {
  return useQuery({
    queryKey: computed(() => ['system', toValue(id), 'runners']),
    queryFn: () => body(api.GET('/api/systems/{system_id}/runners', { params: at(id) })),
  })
}

export function useChooseRunners(id: number) {
  const client = useQueryClient()
  return useMutation({
    mutationFn: (people: string[]) =>
      body(api.PUT('/api/systems/{system_id}/runners', { params: at(id), body: { people } })),
    onSuccess: (runners) => client.setQueryData(['system', id, 'runners'], runners),
  })
}

/** What every meter says, asked again every few seconds while somebody looks. */
export function useMeters(id: MaybeRefOrGetter<number>) {
  return useQuery({
    queryKey: computed(() => ['system', toValue(id), 'meters']),
    queryFn: () => body(api.GET('/api/systems/{system_id}/meters', { params: at(id) })),
    refetchInterval: CHECK_EVERY_MS,
  })
}

export function useShelf(id: MaybeRefOrGetter<number>) {
  return useQuery({
    queryKey: computed(() => ['system', toValue(id), 'metrics']),
    queryFn: () => body(api.GET('/api/systems/{system_id}/metrics', { params: at(id) })),
  })
}

/** A change of a system whose answer is the system as it is now. */
function useChange<T>(id: number, change: (given: T) => Promise<SystemDetail>) {
  const client = useQueryClient()
  return useMutation({
    mutationFn: change,
    onSuccess: async (detail) => {
      await passed(client, ['system', id])
      client.setQueryData(['system', id], detail)
      void client.invalidateQueries({ queryKey: ['systems'] })
      void client.invalidateQueries({ queryKey: ['system', id, 'meters'] })
    },
  })
}

export function useSaveSystem(id: number) {
  return useChange(id, (given: DraftBody) =>
    body(
      api.PUT('/api/systems/{system_id}', {
        params: at(id),
        body: given,
        keepalive: outlives(given),
      }),
    ),
  )
}

export function useStep(id: number) {
  return useChange(id, ({ way, base }: Step) =>
    way === 'undo'
      ? body(
          api.POST('/api/systems/{system_id}/undo', {
            params: at(id),
            body: { base },
            keepalive: true,
          }),
        )
      : body(
          api.POST('/api/systems/{system_id}/redo', {
            params: at(id),
            body: { base },
            keepalive: true,
          }),
        ),
  )
}

export function useArchive(id: number) {
  return useChange(id, (archived: boolean) =>
    body(api.POST('/api/systems/{system_id}/archive', { params: at(id), body: { archived } })),
  )
}

export function useCreateSystem() {
  const client = useQueryClient()
  return useMutation({
    mutationFn: (source: string | null) => body(api.POST('/api/systems', { body: { source } })),
    onSuccess: () => client.invalidateQueries({ queryKey: ['systems'] }),
  })
}

export function useDuplicate(id: number) {
  const client = useQueryClient()
  return useMutation({
    mutationFn: () => body(api.POST('/api/systems/{system_id}/duplicate', { params: at(id) })),
    onSuccess: () => client.invalidateQueries({ queryKey: ['systems'] }),
  })
}

export function useNewToken(id: number) {
  const client = useQueryClient()
  return useMutation({
    mutationFn: () => body(api.POST('/api/systems/{system_id}/token', { params: at(id) })),
    onSuccess: () => client.invalidateQueries({ queryKey: ['system', id] }),
  })
}

export function useSavePins(id: number) {
  const client = useQueryClient()
  return useMutation({
    mutationFn: (pins: Pin[]) =>
      body(api.PUT('/api/systems/{system_id}/pins', { params: at(id), body: { pins } })),
    onMutate: (pins) =>
      client.setQueryData<SystemDetail>(['system', id], (old) => (old ? { ...old, pins } : old)),
    onError: () => client.invalidateQueries({ queryKey: ['system', id] }),
    onSuccess: () => client.invalidateQueries({ queryKey: ['plate'] }),
  })
}
