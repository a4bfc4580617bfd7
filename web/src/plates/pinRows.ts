/** Pinned figures as rows of the plate: lines, or a distribution over time. */
import type { SeriesOption } from 'echarts'
import type { Schemas } from '@/api/client'
import { amount } from '@/ui/format'
import type { LevelPoint, PlateInput } from './runPlate'
import { cellRow, reach } from './strip'

export type PinRow = Schemas['PinRow']

const HEIGHT = { lines: 46, title: 18, line: 16, spread: 58, nothing: 30 }
const DASHES = ['solid', 'dashed', 'dotted', [8, 3, 2, 3], [2, 5], [14, 4]] as const
const DASH_MARKS = ['──', '╌╌', '┈┈', '─·', '· ·', '━ ━']

export const PIN_PREFIX = 'pin:'

export function pinHeight(pin: PinRow): number {
  if (pin.lines.length) return Math.max(HEIGHT.lines, HEIGHT.title + HEIGHT.line * pin.lines.length)
  return pin.spread.length ? HEIGHT.spread : HEIGHT.nothing
}

/** The series of a pin in the grid it was given. */
export function pinSeries(pin: PinRow, grid: number, input: PlateInput): SeriesOption[] {
  const { tokens } = input
  if (pin.spread.length) return [spread(pin, grid, input)]
  return pin.lines.map((line, k) => ({
    type: 'line' as const,
    xAxisIndex: grid,
    yAxisIndex: grid,
    data: points(line.values, input),
    showSymbol: input.axis === 'load',
    symbol: 'circle',
    symbolSize: 5,
    itemStyle: { color: tokens.ink },
    lineStyle: { color: tokens.ink, width: 1.3, type: DASHES[k % DASHES.length] as 'solid' },
    emphasis: { disabled: true },
    connectNulls: false,
    z: 3,
  }))
}

function points(values: (number | null)[], input: PlateInput): [number, number | null][] {
  if (input.axis === 'clock') return input.plate.t.map((t, i) => [t ?? 0, values[i] ?? null])
  return input.levels
    .toSorted((a, b) => a.users - b.users)
    .map((level) => [level.users, meanIn(values, level, input)])
}

/** The mean over a level's later half: the earlier one still settles. */
export function meanIn(
  values: (number | null)[],
  level: Pick<LevelPoint, 'start_s' | 'end_s'>,
  input: Pick<PlateInput, 'plate'>,
): number | null {
  const from = (level.start_s + level.end_s) / 2
  const inside = values.filter((value, i): value is number => {
    const t = input.plate.t[i] ?? -1
    return value !== null && t >= from && t <= level.end_s
  })
  return inside.length ? inside.reduce((sum, v) => sum + v, 0) / inside.length : null
}

/** A row of cells for each bucket that ever holds something, the smallest at the bottom. */
function spread(pin: PinRow, grid: number, input: PlateInput): SeriesOption {
  const used = usedBuckets(pin)
  const cells = used.flatMap((b, row) =>
    stretches(input).map(({ from, to, pick }) => ({
      from,
      to,
      low: row / used.length,
      high: (row + 1) / used.length,
      value: pick(pin.spread[b] ?? []),
    })),
  )
  return cellRow(grid, cells, input.tokens)
}

interface Stretch {
  from: number
  to: number
  pick: (values: (number | null)[]) => number | null
}

/** The axis cut into pieces: seconds (or bins of them), or the levels' stretches of load. */
function stretches(input: PlateInput): Stretch[] {
  if (input.axis === 'clock') {
    const half = input.plate.bin_s / 2
    return input.plate.t.map((t, i) => ({
      from: (t ?? 0) - half,
      to: (t ?? 0) + half,
      pick: (values) => values[i] ?? null,
    }))
  }
  const sorted = input.levels.toSorted((a, b) => a.users - b.users)
  const x = sorted.map((l) => l.users)
  return sorted.map((level, k) => {
    const [from, to] = reach(x, k, Math.max(...x) * 1.04)
    return { from, to, pick: (values) => meanIn(values, level, input) }
  })
}

export function usedBuckets(pin: PinRow): number[] {
  const some = pin.spread.map((share) => share.some((s) => (s ?? 0) > 0.005))
  const first = some.indexOf(true)
  const last = some.lastIndexOf(true)
  return some.map((_, i) => i).filter((i) => i >= first && i <= last && first >= 0)
}

/** What stands beside a pin: its values at the cursor, or why there is none. */
export function pinFigures(
  pin: PinRow,
  at: (values: (number | null)[]) => number | null,
): string[] {
  if (pin.spread.length) {
    const shares = pin.spread.map((share) => at(share) ?? 0)
    const bound = (share: number) => {
      let sum = 0
      const i = shares.findIndex((s) => (sum += s) >= share)
      return i < 0 ? '–' : boundText(pin, i)
    }
    const total = shares.reduce((sum, s) => sum + s, 0)
    return total > 0 ? [`half ${bound(0.5)}`, `95 % ${bound(0.95)}`] : ['–']
  }
  if (!pin.lines.length) return ['not read in this run']
  if (pin.lines.length === 1) return [amount(at(pin.lines[0]?.values ?? []), pin.unit)]
  return pin.lines.map(
    (line, k) => `${DASH_MARKS[k]} ${amount(at(line.values), pin.unit)} ${line.label}`,
  )
}

function boundText(pin: PinRow, i: number): string {
  const bound = pin.bounds[i]
  return bound == null
    ? `over ${amount(pin.bounds[i - 1], pin.unit)}`
    : `≤ ${amount(bound, pin.unit)}`
}
