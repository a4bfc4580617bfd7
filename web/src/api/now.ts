/** What stands over every page: the runs under way, and the halt of all load. */
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed } from 'vue'
import { api, body, type Schemas } from './client'

const LOOK_MS = 4_000
export const NOW = ['now']

export function useNow() {
  return useQuery({
    queryKey: NOW,
    queryFn: () => body(api.GET('/api/now')),
    refetchInterval: LOOK_MS,
  })
}

/** The halt, as far as it is known. */
export function useHalt() {
  const now = useNow()
  return computed(() => now.data.value?.halt)
}

export function useHaltAll() {
  const client = useQueryClient()
  return useMutation({
    mutationFn: (why: string) => body(api.POST('/api/halt', { body: { why } })),
    onSuccess: (halt) =>
      client.setQueryData<Schemas['Now']>(NOW, (now) => ({ runs: now?.runs ?? [], halt })),
  })
}

export function useLift() {
  const client = useQueryClient()
  return useMutation({
    mutationFn: () => body(api.DELETE('/api/halt')),
    onSettled: () => client.invalidateQueries({ queryKey: NOW }),
  })
}
