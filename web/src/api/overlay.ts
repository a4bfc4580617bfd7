/** Several runs at once, each with its plate split by step. */
import { useQueries } from '@tanstack/vue-query'
import { computed, toValue, type MaybeRefOrGetter } from 'vue'
import type { Laid } from '@/plates/overlay'
import type { LevelPoint } from '@/plates/view'
import { api, body } from './client'

async function laidOf(run: number): Promise<Laid> {
  const path = { run_id: run }
  const [told, plate] = await Promise.all([
    body(api.GET('/api/runs/{run_id}', { params: { path } })),
    body(api.GET('/api/runs/{run_id}/plate', { params: { path, query: { split: 'step' } } })),
  ])
  const findings = told.result?.findings as { levels: LevelPoint[] } | null | undefined
  return { id: run, plate, levels: findings?.levels ?? [], notes: told.notes }
}

export function useLaid(ids: MaybeRefOrGetter<number[]>) {
  const found = useQueries({
    queries: computed(() =>
      toValue(ids).map((run) => ({
        queryKey: ['run', run, 'laid'],
        queryFn: () => laidOf(run),
        staleTime: 60_000,
      })),
    ),
  })
  return {
    laid: computed(() => found.value.flatMap((one) => (one.data ? [one.data] : []))),
    pending: computed(() => found.value.some((one) => one.isPending)),
    error: computed(() => found.value.find((one) => one.isError)?.error),
  }
}
