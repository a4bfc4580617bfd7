/** Whether there is room for more users, by an index of how it feels to be one. */
import { keepPreviousData, useQuery } from '@tanstack/vue-query'
import { computed, toValue, type MaybeRefOrGetter } from 'vue'
import { api, body, type Schemas } from './client'

export type MoreUsers = Schemas['RoomForMoreUsers']
export interface AskedIndex {
  index: 'slowdown' | 'apdex'
  limit: number
  target_s: number
}

/** What is asked until somebody says otherwise. */
export const USUAL: Record<AskedIndex['index'], AskedIndex> = {
  slowdown: { index: 'slowdown', limit: 2, target_s: 0.5 },
  apdex: { index: 'apdex', limit: 0.85, target_s: 0.5 },
}

/** What is asked as part of an address: "slowdown 2", "apdex 0.85 0.5". */
export function told({ index, limit, target_s }: AskedIndex): string {
  return index === 'slowdown' ? `slowdown ${limit}` : `apdex ${limit} ${target_s}`
}

/** The inverse of {@link told}; undefined where it is none. */
export function askedIn(text: unknown): AskedIndex | undefined {
  if (typeof text !== 'string') return undefined
  const [name, limit, target] = text.split(' ')
  if (name !== 'slowdown' && name !== 'apdex') return undefined
  const usual = USUAL[name]
  const number = (given: string | undefined, otherwise: number) =>
    given && Number.isFinite(Number(given)) ? Number(given) : otherwise
  return {
    index: name,
    limit: number(limit, usual.limit),
    target_s: number(target, usual.target_s),
  }
}

export function useMoreUsers(
  id: MaybeRefOrGetter<number>,
  asked: MaybeRefOrGetter<AskedIndex>,
  /** Whether somebody looks, and at which findings. */
  when: MaybeRefOrGetter<boolean>,
  of: MaybeRefOrGetter<string>,
) {
  return useQuery({
    queryKey: computed(() => ['run', toValue(id), 'more users', toValue(of), toValue(asked)]),
    queryFn: () =>
      body(
        api.GET('/api/runs/{run_id}/more-users', {
          params: { path: { run_id: toValue(id) }, query: toValue(asked) },
        }),
      ),
    enabled: computed(() => toValue(when)),
    placeholderData: keepPreviousData,
    staleTime: Infinity,
    retry: false,
  })
}
