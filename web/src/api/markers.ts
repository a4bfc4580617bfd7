/** Markers of a run: what people say happened in it. */
import { useMutation, useQueryClient } from '@tanstack/vue-query'
import { api, body } from './client'

export interface Mark {
  id?: number
  text: string
  at_s: number | null
}

/** Put a marker, or say it in other words where it is there already. */
export function usePutMarker(run: number) {
  const client = useQueryClient()
  return useMutation({
    mutationFn: ({ id, text, at_s }: Mark) =>
      id === undefined
        ? body(
            api.POST('/api/runs/{run_id}/markers', {
              params: { path: { run_id: run } },
              body: { text, at_s },
            }),
          )
        : body(
            api.PUT('/api/runs/{run_id}/markers/{marker_id}', {
              params: { path: { run_id: run, marker_id: id } },
              body: { text, at_s },
            }),
          ),
    onSettled: () => client.invalidateQueries({ queryKey: ['run', run] }),
  })
}

export function useTakeMarkerAway(run: number) {
  const client = useQueryClient()
  return useMutation({
    mutationFn: (marker: number) =>
      body(
        api.DELETE('/api/runs/{run_id}/markers/{marker_id}', {
          params: { path: { run_id: run, marker_id: marker } },
        }),
      ),
    onSettled: () => client.invalidateQueries({ queryKey: ['run', run] }),
  })
}
