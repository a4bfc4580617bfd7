/** Rows of cells whose darkness is a share: resource strips, and distributions over time. */
import type { CustomSeriesRenderItemAPI, CustomSeriesRenderItemParams, SeriesOption } from 'echarts'
import type { Tokens } from '@/ui/theme'

/** A piece of the axis and of the row's height (0..1), and its share 0..1; null is not drawn. */
export interface Cell {
  from: number
  to: number
  low: number
  high: number
  value: number | null
}

export function cellRow(grid: number, cells: Cell[], tokens: Tokens): SeriesOption {
  return {
    type: 'custom',
    xAxisIndex: grid,
    yAxisIndex: grid,
    data: cells
      .filter((cell) => cell.value !== null)
      .map((cell) => [cell.from, cell.to, cell.low, cell.high, cell.value as number]),
    encode: { x: [0, 1], y: [2, 3] },
    clip: true,
    silent: true,
    renderItem: (_: CustomSeriesRenderItemParams, api: CustomSeriesRenderItemAPI) => {
      const [left = 0, bottom = 0] = api.coord([api.value(0), api.value(2)])
      const [right = 0, top = 0] = api.coord([api.value(1), api.value(3)])
      const shape = {
        x: left,
        y: top,
        width: Math.max(1, right - left + 0.5),
        height: bottom - top,
      }
      return {
        type: 'rect',
        shape,
        style: { fill: tokens.ink, opacity: darkness(Number(api.value(4))) },
      }
    },
  }
}

/** Darkness of a cell: slow at first, so that the last tenth before full is plain to see. */
export function darkness(share: number): number {
  const u = Math.min(1, Math.max(0, share))
  return 0.05 + 0.9 * u ** 1.8
}

/** The stretch of the load axis a level stands for: half-way to its neighbours, within the axis. */
export function reach(levels: number[], k: number, end: number): [number, number] {
  const here = levels[k] ?? 0
  const before = levels[k - 1]
  const after = levels[k + 1]
  const half =
    ((after ?? here) - (before ?? here)) / (after !== undefined && before !== undefined ? 2 : 1) / 2
  const from = before === undefined ? here - half : (before + here) / 2
  const to = after === undefined ? here + half : (here + after) / 2
  return [Math.max(0, from), Math.min(end, to)]
}
