/** Queries and changes of journeys. */
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, toValue, type MaybeRefOrGetter } from 'vue'
import type { DraftBody, Step } from '@/ui/draft'
import { api, body, form, outlives, passed, type Schemas } from './client'
import { useJob } from './jobs'

export type JourneyDetail = Schemas['JourneyDetail']
export type JourneyTrial = Schemas['JourneyTrial']
export type Exchange = Schemas['Exchange']

const at = (id: MaybeRefOrGetter<number>) => ({ path: { journey_id: toValue(id) } })

export function useJourneys(
  archived: MaybeRefOrGetter<boolean> = false,
  when: MaybeRefOrGetter<boolean> = true,
) {
  return useQuery({
    queryKey: computed(() => ['journeys', toValue(archived)]),
    queryFn: () =>
      body(api.GET('/api/journeys', { params: { query: { archived: toValue(archived) } } })),
    enabled: computed(() => toValue(when)),
  })
}

export function useJourney(id: MaybeRefOrGetter<number>) {
  return useQuery({
    queryKey: computed(() => ['journey', toValue(id)]),
    queryFn: () => body(api.GET('/api/journeys/{journey_id}', { params: at(id) })),
  })
}

/** A change of a journey whose answer is the journey as it is now. */
function useChange<T>(id: number, change: (given: T) => Promise<JourneyDetail>) {
  const client = useQueryClient()
  return useMutation({
    mutationFn: change,
    onSuccess: async (detail) => {
      await passed(client, ['journey', id])
      client.setQueryData(['journey', id], detail)
      void client.invalidateQueries({ queryKey: ['journeys'] })
    },
  })
}

export function useSaveJourney(id: number) {
  return useChange(id, (given: DraftBody) =>
    body(
      api.PUT('/api/journeys/{journey_id}', {
        params: at(id),
        body: given,
        keepalive: outlives(given),
      }),
    ),
  )
}

export function useStepBack(id: number) {
  return useChange(id, ({ way, base }: Step) =>
    way === 'undo'
      ? body(
          api.POST('/api/journeys/{journey_id}/undo', {
            params: at(id),
            body: { base },
            keepalive: true,
          }),
        )
      : body(
          api.POST('/api/journeys/{journey_id}/redo', {
            params: at(id),
            body: { base },
            keepalive: true,
          }),
        ),
  )
}

export function useArchiveJourney(id: number) {
  return useChange(id, (archived: boolean) =>
    body(api.POST('/api/journeys/{journey_id}/archive', { params: at(id), body: { archived } })),
  )
}

export function useCreateJourney() {
  const client = useQueryClient()
  return useMutation({
    mutationFn: (given: { source?: string; system?: string }) =>
      body(
        api.POST('/api/journeys', {
          body: { source: given.source ?? null, system: given.system ?? '' },
        }),
      ),
    onSuccess: () => client.invalidateQueries({ queryKey: ['journeys'] }),
  })
}

export function useDuplicateJourney(id: number) {
  const client = useQueryClient()
  return useMutation({
    mutationFn: () => body(api.POST('/api/journeys/{journey_id}/duplicate', { params: at(id) })),
    onSuccess: () => client.invalidateQueries({ queryKey: ['journeys'] }),
  })
}

export function useTrial(id: number) {
  const client = useQueryClient()
  return useJob(
    (user: number) =>
      body(api.POST('/api/journeys/{journey_id}/trial', { params: at(id), body: { user } })),
    'trial',
    () => client.invalidateQueries({ queryKey: ['journey', id] }),
  )
}

/** What becomes of a file, sent as JSON beside it. */
export interface JourneyFileUse {
  name: string
  system: string
  accept: string[]
  hosts: string[]
}

export function useLookAtJourneyFile() {
  return useJob(
    (given: { file: File; hosts: string[] }) =>
      body(api.POST('/api/journey-files/look', { body: form(given) })),
    'journey file',
  )
}

export function useImportJourneyFile() {
  const client = useQueryClient()
  return useJob(
    ({ file, use }: { file: File; use: JourneyFileUse }) =>
      body(api.POST('/api/journey-files', { body: form({ file, use: JSON.stringify(use) }) })),
    'journey',
    () => client.invalidateQueries({ queryKey: ['journeys'] }),
  )
}
