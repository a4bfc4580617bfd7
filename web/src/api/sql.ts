/** A run asked in SQL. */
import { useMutation, useQuery } from '@tanstack/vue-query'
import { computed, toValue, type MaybeRefOrGetter } from 'vue'
import { api, body, type Schemas } from './client'

export type SqlAnswer = Schemas['SqlAnswer']
export type SqlTable = Schemas['SqlTable']

export function useSqlTables(id: MaybeRefOrGetter<number>) {
  return useQuery({
    queryKey: computed(() => ['run', toValue(id), 'sql']),
    queryFn: () =>
      body(api.GET('/api/runs/{run_id}/sql', { params: { path: { run_id: toValue(id) } } })),
    staleTime: Infinity,
  })
}

export function useSql(id: MaybeRefOrGetter<number>) {
  return useMutation({
    mutationFn: (statement: string) =>
      body(
        api.POST('/api/runs/{run_id}/sql', {
          params: { path: { run_id: toValue(id) } },
          body: { statement },
        }),
      ),
  })
}

/** The whole answer as a file. */
export function useSqlFile(id: MaybeRefOrGetter<number>) {
  return useMutation({
    mutationFn: async (statement: string) => {
      const { data } = await api.POST('/api/runs/{run_id}/sql.csv', {
        params: { path: { run_id: toValue(id) } },
        body: { statement },
        parseAs: 'blob',
      })
      return data as unknown as Blob
    },
  })
}
