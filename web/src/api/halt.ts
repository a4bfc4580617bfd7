/** The halt of all load: asked for often, since it stands over everything. */
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import { api, body } from './client'

const LOOK_MS = 2_000

export function useHalt() {
  return useQuery({
    queryKey: ['halt'],
    queryFn: () => body(api.GET('/api/halt')),
    refetchInterval: LOOK_MS,
  })
}

export function useHaltAll() {
  const client = useQueryClient()
  return useMutation({
    mutationFn: (why: string) => body(api.POST('/api/halt', { body: { why } })),
    onSuccess: (halt) => client.setQueryData(['halt'], halt),
  })
}

export function useLift() {
  const client = useQueryClient()
  return useMutation({
    mutationFn: () => body(api.DELETE('/api/halt')),
    onSettled: () => client.invalidateQueries({ queryKey: ['halt'] }),
  })
}
