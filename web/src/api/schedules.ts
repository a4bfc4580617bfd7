/** When experiments run by themselves. */
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import { api, body, type Schemas } from './client'

export type Schedule = Schemas['ScheduleLine']
export type Every = Schedule['every']

const LOOK_MS = 10_000
const key = (id: number) => ['experiment', id, 'schedules']
const at = (id: number) => ({ path: { experiment_id: id } })

export function useSchedules(id: number) {
  return useQuery({
    queryKey: key(id),
    queryFn: () => body(api.GET('/api/experiments/{experiment_id}/schedules', { params: at(id) })),
    refetchInterval: LOOK_MS,
  })
}

/** What is to run by itself, of all experiments, the next first. */
export function useComing() {
  return useQuery({
    queryKey: ['schedules'],
    queryFn: () => body(api.GET('/api/schedules')),
    refetchInterval: LOOK_MS,
  })
}

export function useAddSchedule(id: number) {
  const client = useQueryClient()
  return useMutation({
    mutationFn: (asked: { at: string; zone: string; every: Every }) =>
      body(api.POST('/api/experiments/{experiment_id}/schedules', { params: at(id), body: asked })),
    onSuccess: () => client.invalidateQueries({ queryKey: key(id) }),
  })
}

export function useRemoveSchedule(id: number) {
  const client = useQueryClient()
  return useMutation({
    mutationFn: (schedule: number) =>
      body(
        api.DELETE('/api/schedules/{schedule_id}', { params: { path: { schedule_id: schedule } } }),
      ),
    onSuccess: () => client.invalidateQueries({ queryKey: key(id) }),
  })
}
