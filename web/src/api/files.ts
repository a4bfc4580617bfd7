/** Metrics files of a run. */
import { useMutation, useQueryClient } from '@tanstack/vue-query'
import { api, body, form } from './client'

/** How a file is to be read, sent as JSON beside it. */
export interface FileUse {
  component: string
  time_column: string
  zone: string
  offset_s: number
  columns: {
    column: string
    metric: string
    kind: 'gauge' | 'counter'
    resource: string | null
    capacity: number | null
  }[]
}

export function useLookAtFile(run: number) {
  return useMutation({
    mutationFn: (given: { file: File; time_column: string; zone: string }) =>
      body(
        api.POST('/api/runs/{run_id}/files/look', {
          params: { path: { run_id: run } },
          body: form(given),
        }),
      ),
  })
}

export function useAddFile(run: number) {
  const client = useQueryClient()
  return useMutation({
    mutationFn: ({ file, use }: { file: File; use: FileUse }) =>
      body(
        api.POST('/api/runs/{run_id}/files', {
          params: { path: { run_id: run } },
          body: form({ file, use: JSON.stringify(use) }),
        }),
      ),
    onSuccess: () => forget(client, run),
  })
}

export function useRemoveFile(run: number) {
  const client = useQueryClient()
  return useMutation({
    mutationFn: (id: number) =>
      body(
        api.DELETE('/api/runs/{run_id}/files/{file_id}', {
          params: { path: { run_id: run, file_id: id } },
        }),
      ),
    onSuccess: () => forget(client, run),
  })
}

function forget(client: ReturnType<typeof useQueryClient>, run: number) {
  void client.invalidateQueries({ queryKey: ['run', run] })
  void client.invalidateQueries({ queryKey: ['plate', run] })
}
