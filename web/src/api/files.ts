/** Metrics files of a run. */
import { useQueryClient } from '@tanstack/vue-query'
import { api, body, form, type Schemas } from './client'
import { useJob, type OutcomeOf } from './jobs'

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
  return useJob(
    (given: { file: File; time_column: string; zone: string }) =>
      body(
        api.POST('/api/runs/{run_id}/files/look', {
          params: { path: { run_id: run } },
          body: form(given),
        }),
      ),
    'metrics file',
  )
}

export function useAddFile(run: number) {
  const client = useQueryClient()
  return useJob(
    ({ file, use }: { file: File; use: FileUse }) =>
      body(
        api.POST('/api/runs/{run_id}/files', {
          params: { path: { run_id: run } },
          body: form({ file, use: JSON.stringify(use) }),
        }),
      ),
    'metrics file added',
    () => forget(client, run),
  )
}

export function useRemoveFile(run: number) {
  const client = useQueryClient()
  return useJob(
    (id: number) =>
      body(
        api.DELETE('/api/runs/{run_id}/files/{file_id}', {
          params: { path: { run_id: run, file_id: id } },
        }),
      ),
    'metrics file removed',
    () => forget(client, run),
  )
}

function forget(client: ReturnType<typeof useQueryClient>, run: number) {
  void client.invalidateQueries({ queryKey: ['run', run] })
  void client.invalidateQueries({ queryKey: ['plate', run] })
}

export type ExportWhat = Schemas['ExportIn']['what']

/** A file of the run's, made by a worker; it can be downloaded once it is there. */
export function useExport(run: number, ended: (made: OutcomeOf<'export made'>) => void) {
  return useJob(
    (what: ExportWhat) =>
      body(
        api.POST('/api/runs/{run_id}/exports', {
          params: { path: { run_id: run } },
          body: { what },
        }),
      ),
    'export made',
    ended,
  )
}
