/** What each of a run's users did in a stretch of it. */
import { keepPreviousData, useQuery } from '@tanstack/vue-query'
import { computed, toValue, type MaybeRefOrGetter } from 'vue'
import { api, body, type Schemas } from './client'

export interface Piece {
  from_s: number
  until_s: number
}
export type Woven = Omit<Schemas['Lives'], 'cells'> & { cells: Uint8Array }

const LIVE_MS = 3_000

/** The bytes of a text in base64 that were deflated. */
export async function inflated(text: string): Promise<Uint8Array> {
  const packed = Uint8Array.from(atob(text), (letter) => letter.charCodeAt(0))
  const stream = new Blob([packed]).stream().pipeThrough(new DecompressionStream('deflate'))
  return new Uint8Array(await new Response(stream).arrayBuffer())
}

export function useLives(
  id: MaybeRefOrGetter<number>,
  piece: MaybeRefOrGetter<Piece>,
  how: { live: MaybeRefOrGetter<boolean>; when: MaybeRefOrGetter<boolean> },
) {
  return useQuery<Woven>({
    queryKey: computed(() => ['run', toValue(id), 'lives', toValue(piece)]),
    enabled: computed(() => toValue(how.when)),
    queryFn: async () => {
      const found = await body(
        api.GET('/api/runs/{run_id}/lives', {
          params: { path: { run_id: toValue(id) }, query: toValue(piece) },
        }),
      )
      return { ...found, cells: await inflated(found.cells) }
    },
    refetchInterval: computed(() => (toValue(how.live) ? LIVE_MS : false)),
    placeholderData: keepPreviousData,
  })
}

export function useLife(
  id: MaybeRefOrGetter<number>,
  user: MaybeRefOrGetter<number | null>,
  piece: MaybeRefOrGetter<Piece>,
) {
  return useQuery({
    queryKey: computed(() => ['run', toValue(id), 'lives', toValue(user), toValue(piece)]),
    enabled: computed(() => toValue(user) !== null),
    queryFn: () =>
      body(
        api.GET('/api/runs/{run_id}/lives/{user}', {
          params: {
            path: { run_id: toValue(id), user: toValue(user) ?? 0 },
            query: toValue(piece),
          },
        }),
      ),
  })
}
