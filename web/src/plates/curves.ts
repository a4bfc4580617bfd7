/** The laws' curves on the plate against load: thin lines beside what was measured. */
import type { SeriesOption } from 'echarts'
import type { FittedCurves } from '@/api/curves'
import { line } from './lines'
import type { Place, View } from './view'

const LOOKS = {
  bounds: { width: 1, type: [2, 4] },
  throughput: { width: 1, type: 'solid' as const },
  response_s: { width: 1, type: 'solid' as const },
  scalability: { width: 1.3, type: 'dashed' as const },
}
type Which = keyof typeof LOOKS

/** A curve as it is drawn; nothing along the clock, nor where the run bears none. */
export function curve(view: View, grid: number, which: Which): SeriesOption[] {
  const known = view.axis === 'load' ? view.curves : undefined
  if (!known?.[which].length) return []
  const data = known.loads.map((load, i): [number, number | null] => [
    load,
    known[which][i] ?? null,
  ])
  return [
    {
      ...line(grid, view.tokens.ink2, data),
      lineStyle: { color: view.tokens.ink2, ...LOOKS[which] },
    },
  ] as SeriesOption[]
}

/** What a curve says at a place, on a straight line between its points; null beyond them. */
export function curveAt(
  curves: FittedCurves | undefined,
  which: Which,
  place: Place,
): number | null {
  const values = curves?.[which] ?? []
  const loads = curves?.loads ?? []
  const after = loads.findIndex((load) => load >= place.x - 1e-9)
  if (after < 0 || !values.length) return null
  const [low, high] = [loads[after - 1], loads[after] ?? 0]
  if (low === undefined) return place.x < high - 1e-9 ? null : (values[after] ?? null)
  const share = (place.x - low) / Math.max(1e-12, high - low)
  return (values[after - 1] ?? 0) * (1 - share) + (values[after] ?? 0) * share
}
