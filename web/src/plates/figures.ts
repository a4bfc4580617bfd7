/** What stands beside each row at the cursor, and where a stretch of load lies on the axis in use. */
import { figure, percent, rate, seconds, users } from '@/ui/format'
import { blurOf, stalledAt } from './blur'
import { meanIn, PIN_PREFIX, pinFigures } from './pinRows'
import type { Plate, PlateInput } from './runPlate'

export interface RowFigure {
  id: string
  lines: string[]
}

/** What stands beside each row for the point nearest to `x`, or for the last one. */
export function figuresAt(input: PlateInput, x: number | null): RowFigure[] {
  return input.axis === 'load' ? loadFigures(input, x) : clockFigures(input, x)
}

function clockFigures({ plate }: PlateInput, x: number | null): RowFigure[] {
  const i = x === null ? lastLoaded(plate) : nearest(plate.t, x)
  const at = (column: (number | null)[]) => column[i] ?? null
  return [
    { id: 'load', lines: [`${users(at(plate.users))} of ${users(at(plate.planned))} users`] },
    { id: 'throughput', lines: [rate(at(plate.throughput))] },
    {
      id: 'response',
      lines: [
        `p50 ${seconds(at(plate.p50))}`,
        `p95 ${seconds(at(plate.p95))}`,
        `p99 ${seconds(at(plate.p99))}`,
      ],
    },
    { id: 'errors', lines: [`${figure(at(plate.errors))} errors/s`] },
    { id: 'blur', lines: [percent(at(plate.blur)) + stood(stalledAt({ plate }, plate.t[i] ?? 0))] },
    ...plate.resources.map((r) => ({
      id: `resource:${r.key}`,
      lines: [percent(r.utilisation[i]) + waiting(r.waiting?.[i])],
    })),
    ...plate.pins.map((pin, k) => ({ id: `${PIN_PREFIX}${k}`, lines: pinFigures(pin, at) })),
  ]
}

/** The last second with planned load: what drains after it is no figure to stand beside the plate. */
function lastLoaded(plate: Plate): number {
  const i = plate.planned.findLastIndex((users) => (users ?? 0) > 0)
  return i < 0 ? plate.t.length - 1 : i
}

function loadFigures(input: PlateInput, x: number | null): RowFigure[] {
  const { levels, plate } = input
  const sorted = levels.toSorted((a, b) => a.users - b.users)
  const i =
    x === null
      ? sorted.length - 1
      : nearest(
          sorted.map((l) => l.users),
          x,
        )
  const level = sorted[i]
  if (!level) return []
  return [
    { id: 'load', lines: [`${figure(level.in_flight)} of ${users(level.users)} users`] },
    { id: 'throughput', lines: [rate(level.throughput)] },
    {
      id: 'response',
      lines: [
        `p50 ${seconds(level.p50_s)}`,
        `p95 ${seconds(level.p95_s)}`,
        `p99 ${seconds(level.p99_s)}`,
      ],
    },
    { id: 'errors', lines: [percent(level.completions ? level.errors / level.completions : 0)] },
    { id: 'blur', lines: [percent(blurOf(level))] },
    ...plate.resources.map((r) => ({
      id: `resource:${r.key}`,
      lines: [percent(level.utilisation[r.key])],
    })),
    ...plate.pins.map((pin, k) => ({
      id: `${PIN_PREFIX}${k}`,
      lines: pinFigures(pin, (values) => meanIn(values, level, input)),
    })),
  ]
}

function stood(length: number): string {
  return length ? `, still ${seconds(length)}` : ''
}

function waiting(count: number | null | undefined): string {
  return count ? `, ${users(Math.max(1, count))} wait` : ''
}

export function nearest(sorted: (number | null)[], x: number): number {
  let best = 0
  sorted.forEach((value, i) => {
    if (Math.abs((value ?? 0) - x) < Math.abs((sorted[best] ?? 0) - x)) best = i
  })
  return best
}

/** Where on the axis in use a stretch of load lies: users as they are, or the time they were there. */
export function place(
  input: Pick<PlateInput, 'axis' | 'levels'>,
  low: number,
  high: number,
): [number, number] | null {
  if (input.axis === 'load') return [low, high]
  const inside = input.levels.filter((l) => l.users >= low * 0.98 && l.users <= high * 1.02)
  const chosen = inside.length ? inside : input.levels.filter((l) => l.users >= high).slice(0, 1)
  if (!chosen.length) return null
  return [Math.min(...chosen.map((l) => l.start_s)), Math.max(...chosen.map((l) => l.end_s))]
}
