/** The quiet row of what measuring did: the share of users that may not have been load, and stalls. */
import type { SeriesOption } from 'echarts'
import { percent, seconds } from '@/ui/format'
import type { PlateRow } from './rows'
import { cellRow } from './strip'
import { at, type LevelPoint, type Place, type Plate, type View } from './view'

/** A share of this much fills the row's darkness: beyond it claims begin to fall. */
const FULL = 0.05

/** The share of a level's users that may not have been load; runs of long ago did not tell. */
export function blurOf(level: LevelPoint): number | null {
  const present = level.present ?? 0
  return present > 0 ? ((level.overdue ?? 0) + (level.blind ?? 0)) / present : null
}

export function blurRow(view: View, height: number): PlateRow {
  const { plate, tokens, axis } = view
  const share = (place: Place) => {
    if (place.level) return blurOf(place.level)
    // A share of the few who finish last says nothing of the run.
    return place.bins.some((i) => view.loaded[i]) ? at(plate.blur, place) : null
  }
  const stalls = (grid: number): SeriesOption => ({
    type: 'scatter',
    xAxisIndex: grid,
    yAxisIndex: grid,
    data: plate.stalls.map((stall) => [stall.t + stall.length_s / 2, 0.5]),
    symbol: 'diamond',
    symbolSize: 9,
    itemStyle: { color: tokens.ochre },
    silent: true,
    z: 4,
  })
  return {
    id: 'blur',
    name: 'Blur of measuring',
    kind: 'strip',
    height,
    scale: { max: 1, tick: null, parts: 1, lines: false, atZero: true },
    measure: { name: 'blur', value: share, tell: percent },
    series: (grid) => {
      const value = (place: Place) => {
        const found = share(place)
        return found === null ? null : found / FULL
      }
      const strip = cellRow(grid, view.places, [{ low: 0, high: 1, value }], tokens)
      return [strip, ...(axis === 'clock' ? [stalls(grid)] : [])]
    },
    figures: (place) => {
      const stood = axis === 'clock' ? stalledAt(plate, place.x) : 0
      return [percent(share(place)) + (stood ? `, still ${seconds(stood)}` : '')]
    },
  }
}

/** The longest stall within a bin around `t`, in seconds; 0 when there was none. */
function stalledAt(plate: Plate, t: number): number {
  const half = Math.max(plate.bin_s / 2, 0.5)
  const here = plate.stalls.filter((s) => s.t - half <= t && t <= s.t + s.length_s + half)
  return Math.max(0, ...here.map((s) => s.length_s))
}
