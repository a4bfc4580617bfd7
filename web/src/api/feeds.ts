/** Queries and changes of feeds. */
import { keepPreviousData, useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, toValue, type MaybeRefOrGetter } from 'vue'
import type { DraftBody, Step } from '@/ui/draft'
import { api, body, form, outlives, passed, type Schemas } from './client'
import { useJob } from './jobs'

export type FeedDetail = Schemas['FeedDetail']
export type FeedFileLookup = Schemas['FeedFileLookup']

const at = (id: number) => ({ path: { feed_id: id } })

export function useFeeds(archived: MaybeRefOrGetter<boolean> = false) {
  return useQuery({
    queryKey: computed(() => ['feeds', toValue(archived)]),
    queryFn: () =>
      body(api.GET('/api/feeds', { params: { query: { archived: toValue(archived) } } })),
  })
}

export function useFeed(id: MaybeRefOrGetter<number | null>) {
  return useQuery({
    queryKey: computed(() => ['feed', toValue(id)]),
    queryFn: () => body(api.GET('/api/feeds/{feed_id}', { params: at(toValue(id) ?? 0) })),
    enabled: computed(() => toValue(id) !== null),
  })
}

/** Rows from `start` on; `state` names the state of the feed they belong to. */
export function useFeedRows(
  id: number,
  start: MaybeRefOrGetter<number>,
  state: MaybeRefOrGetter<string>,
) {
  return useQuery({
    queryKey: computed(() => ['feed-rows', id, toValue(start), toValue(state)]),
    queryFn: () =>
      body(
        api.GET('/api/feeds/{feed_id}/rows', {
          params: { ...at(id), query: { start: toValue(start) } },
        }),
      ),
    placeholderData: keepPreviousData,
  })
}

/** A change of a feed whose answer is the feed as it is now. */
function useChange<T>(id: number, change: (given: T) => Promise<FeedDetail>) {
  const client = useQueryClient()
  return useMutation({
    mutationFn: change,
    onSuccess: async (detail) => {
      await passed(client, ['feed', id])
      client.setQueryData(['feed', id], detail)
      void client.invalidateQueries({ queryKey: ['feeds'] })
    },
  })
}

export function useSaveFeed(id: number) {
  return useChange(id, (given: DraftBody) =>
    body(
      api.PUT('/api/feeds/{feed_id}', {
        params: at(id),
        body: given,
        keepalive: outlives(given),
      }),
    ),
  )
}

export function useFeedStepBack(id: number) {
  return useChange(id, ({ way, base }: Step) =>
    way === 'undo'
      ? body(
          api.POST('/api/feeds/{feed_id}/undo', {
            params: at(id),
            body: { base },
            keepalive: true,
          }),
        )
      : body(
          api.POST('/api/feeds/{feed_id}/redo', {
            params: at(id),
            body: { base },
            keepalive: true,
          }),
        ),
  )
}

export function useArchiveFeed(id: number) {
  return useChange(id, (archived: boolean) =>
    body(api.POST('/api/feeds/{feed_id}/archive', { params: at(id), body: { archived } })),
  )
}

export function useCreateFeed() {
  const client = useQueryClient()
  return useMutation({
    mutationFn: (make: boolean) => body(api.POST('/api/feeds', { body: { make } })),
    onSuccess: () => client.invalidateQueries({ queryKey: ['feeds'] }),
  })
}

export function useDuplicateFeed(id: number) {
  const client = useQueryClient()
  return useMutation({
    mutationFn: () => body(api.POST('/api/feeds/{feed_id}/duplicate', { params: at(id) })),
    onSuccess: () => client.invalidateQueries({ queryKey: ['feeds'] }),
  })
}

/** How a file is to be read; what is left empty is recognised. */
export interface FeedFileReading {
  encoding?: string
  delimiter?: string
  header?: boolean
}

export interface FeedFileUse extends FeedFileReading {
  name: string
  columns: string[]
  ragged: 'refuse' | 'fill up' | 'leave out'
}

export function useLookAtFeedFile() {
  return useJob(
    ({ file, reading }: { file: File; reading: FeedFileReading }) =>
      body(
        api.POST('/api/feed-files/look', {
          body: form({ file, reading: JSON.stringify(reading) }),
        }),
      ),
    'feed file',
  )
}

/** Upload a file as a new feed, or as other rows of the feed `replaced`; the answer is its id. */
export function useUploadFeedFile() {
  const client = useQueryClient()
  return useJob(
    ({ file, use, replaced }: { file: File; use: FeedFileUse; replaced: number | null }) => {
      const given = form({ file, use: JSON.stringify(use) })
      return replaced === null
        ? body(api.POST('/api/feed-files', { body: given }))
        : body(api.POST('/api/feeds/{feed_id}/file', { params: at(replaced), body: given }))
    },
    'feed',
    ({ id }) => {
      client.removeQueries({ queryKey: ['feed', id] })
      void client.invalidateQueries({ queryKey: ['feeds'] })
    },
  )
}
