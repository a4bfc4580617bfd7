/** The quiet row of what measuring did: the share of users that may not have been load, and stalls. */
import type { SeriesOption } from 'echarts'
import type { LevelPoint, PlateInput } from './runPlate'
import { cellRow, reach, type Cell } from './strip'

/** A share of this much fills the row's darkness: beyond it claims begin to fall. */
const FULL = 0.05

/** The share of a level's users that may not have been load; runs of long ago did not tell. */
export function blurOf(level: LevelPoint): number | null {
  const present = level.present ?? 0
  return present > 0 ? ((level.overdue ?? 0) + (level.blind ?? 0)) / present : null
}

export function blurSeries(input: PlateInput, grid: number, end: number): SeriesOption[] {
  const { plate, levels, tokens, axis } = input
  const dark = (share: number | null | undefined) => (share == null ? null : share / FULL)
  if (axis === 'load') {
    const sorted = levels.toSorted((a, b) => a.users - b.users)
    const x = sorted.map((l) => l.users)
    const cells = sorted.map((l, k): Cell => {
      const [from, to] = reach(x, k, end)
      return { from, to, low: 0, high: 1, value: dark(blurOf(l)) }
    })
    return [cellRow(grid, cells, tokens)]
  }
  const half = plate.bin_s / 2
  const cells = plate.t.map((t, k): Cell => {
    const at = t ?? 0
    // A share of the few who finish last says nothing of the run.
    const share = (plate.planned[k] ?? 0) > 0 ? plate.blur[k] : null
    return { from: at - half, to: at + half, low: 0, high: 1, value: dark(share) }
  })
  return [
    cellRow(grid, cells, tokens),
    {
      type: 'scatter',
      xAxisIndex: grid,
      yAxisIndex: grid,
      data: plate.stalls.map((stall) => [stall.t + stall.length_s / 2, 0.5]),
      symbol: 'diamond',
      symbolSize: 9,
      itemStyle: { color: tokens.ochre },
      silent: true,
      z: 4,
    },
  ]
}

/** The longest stall within a bin around `t`, in seconds; 0 when there was none. */
export function stalledAt({ plate }: Pick<PlateInput, 'plate'>, t: number): number {
  const half = Math.max(plate.bin_s / 2, 0.5)
  const here = plate.stalls.filter((s) => s.t - half <= t && t <= s.t + s.length_s + half)
  return Math.max(0, ...here.map((s) => s.length_s))
}
