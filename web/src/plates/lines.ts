/** What rows are drawn with: lines, clouds of seconds, bars, and the fan of percentiles. */
import type { SeriesOption } from 'echarts'
import type { Column, Point, View } from './view'

export const DASHES = ['solid', 'dashed', 'dotted', [8, 3, 2, 3], [2, 5], [14, 4]] as const
export const DASH_MARKS = ['──', '╌╌', '┈┈', '─·', '· ·', '━ ━']
export const MOST_LINES = DASHES.length

const LONGEST_BRIDGE = 4

export function line(grid: number, color: string, data: Point[]) {
  return {
    type: 'line' as const,
    xAxisIndex: grid,
    yAxisIndex: grid,
    data,
    showSymbol: false,
    itemStyle: { color },
    lineStyle: { color, width: 1.6 },
    emphasis: { disabled: true },
    z: 3,
  }
}

/** A line whose points are levels. */
export function dotted(grid: number, color: string, data: Point[], size = 6) {
  return { ...line(grid, color, data), symbol: 'circle', symbolSize: size, showSymbol: true }
}

/** Lines told apart by their dashes. */
export function dashed(grid: number, color: string, data: Point[], k: number, dots: boolean) {
  return {
    ...(dots ? dotted(grid, color, data, 5) : line(grid, color, data)),
    lineStyle: { color, width: 1.3, type: DASHES[k % MOST_LINES] as 'solid' },
    connectNulls: false,
  }
}

/** Every second at its load; fainter where levels stand above. */
export function cloud(view: View, grid: number, column: Column, color: string): SeriesOption {
  const data = view.load.flatMap((load, i): Point[] =>
    view.loaded[i] ? [[load ?? 0, column[i] ?? null]] : [],
  )
  return {
    type: 'scatter',
    xAxisIndex: grid,
    yAxisIndex: grid,
    data,
    symbolSize: 3,
    itemStyle: { color, opacity: view.levels.length ? 0.18 : 0.5 },
    silent: true,
  }
}

/** From the low to the high end of what points are known to: one upright stroke each. */
export function strokes(
  grid: number,
  color: string,
  ends: [x: number, low: number, high: number][],
) {
  const data = ends.flatMap(([x, low, high]): Point[] => [
    [x, low],
    [x, high],
    [x, null],
  ])
  return { ...line(grid, color, data), lineStyle: { color, width: 1 }, silent: true, z: 2 }
}

export function bars(grid: number, data: Point[], color: string): SeriesOption {
  return {
    type: 'bar',
    xAxisIndex: grid,
    yAxisIndex: grid,
    data,
    barWidth: 3,
    itemStyle: { color },
    emphasis: { disabled: true },
  }
}

export interface Percentiles {
  x: number
  p50: number | null
  p95: number | null
  p99: number | null
}

/** A line of medians under the shades of the 95th and 99th percentile. Where nothing was answered for long, as in a
 * pause, no line leads across. */
export function fan(grid: number, points: Percentiles[], color: string, dots: boolean) {
  const known = points
    .map((p, i) => ({ i, x: p.x, p50: p.p50, p95: p.p95, p99: p.p99 }))
    .filter(
      (p): p is { i: number; x: number; p50: number; p95: number; p99: number } =>
        p.p50 !== null && p.p95 !== null && p.p99 !== null,
    )
  const pick = (f: (p: (typeof known)[number]) => number): Point[] =>
    known.flatMap((p, k): Point[] => {
      const before = known[k - 1]?.i ?? p.i
      const gap: Point[] =
        p.i - before > LONGEST_BRIDGE ? [[points[before + 1]?.x ?? p.x, null]] : []
      return [...gap, [p.x, f(p)]]
    })
  const layer = (data: Point[], opacity: number): SeriesOption => ({
    ...line(grid, color, data),
    stack: 'fan',
    stackStrategy: 'all',
    lineStyle: { opacity: 0 },
    areaStyle: { color, opacity, origin: 'auto' },
    silent: true,
    z: 2,
  })
  const middle = pick((p) => p.p50)
  return {
    layers: [
      layer(middle, 0),
      layer(
        pick((p) => p.p95 - p.p50),
        0.28,
      ),
      layer(
        pick((p) => p.p99 - p.p95),
        0.13,
      ),
    ],
    middle: dots && known.length ? dotted(grid, color, middle) : line(grid, color, middle),
  }
}
