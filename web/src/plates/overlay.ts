/** Several runs in one picture: the same rows of each, on the clock or against load. */
import type { LivePlate } from '@/api/livePlate'
import type { Schemas } from '@/api/client'
import { figure, percent, seconds } from '@/ui/format'
import type { Axis, LevelPoint } from './view'

type Figure = Schemas['FigureLine']

/** A run as far as the picture needs it. */
export interface Laid {
  id: number
  plate: LivePlate
  levels: LevelPoint[]
  /** What happened in it, seconds after the start of its load. */
  notes: { at_s: number; text: string }[]
}

/** A row that can be shown: what it is called, and its values in a run. */
export interface Row {
  id: string
  name: string
  unit: 'load' | 'rate' | 'seconds' | 'share'
}

export interface Dot {
  x: number
  y: number
}

export interface Drawn {
  id: number
  dots: Dot[]
}

const STEP = 'step '
const BUSY = 'busy '

/** The rows that all of the runs have. */
export function rowsOf(runs: Laid[]): Row[] {
  const common = (of: (run: Laid) => string[]) => {
    const [first, ...others] = runs.map(of)
    return (first ?? []).filter((one) => others.every((own) => own.includes(one)))
  }
  return [
    { id: 'users', name: 'Users', unit: 'load' },
    { id: 'throughput', name: 'Throughput', unit: 'rate' },
    ...common((run) => run.plate.parts.map((part) => part.name)).map((name) => ({
      id: STEP + name,
      name: `${name} p95`,
      unit: 'seconds' as const,
    })),
    { id: 'errors', name: 'Errors', unit: 'rate' },
    ...common((run) => run.plate.resources.map((resource) => resource.key)).map((key) => ({
      id: BUSY + key,
      name: `${key.replace('.', ' ')} busy`,
      unit: 'share' as const,
    })),
  ]
}

type Column = (number | null)[]

function columnOf(plate: LivePlate, row: string): Column {
  if (row === 'users') return plate.users
  if (row === 'throughput') return plate.throughput
  if (row === 'errors') return plate.errors
  if (row.startsWith(STEP))
    return plate.parts.find((part) => part.name === row.slice(STEP.length))?.p95 ?? []
  return plate.resources.find((one) => one.key === row.slice(BUSY.length))?.utilisation ?? []
}

/** A row's value at a level. Steps are told by their place in the plan. */
function atLevel(run: Laid, level: LevelPoint, row: string): number | null {
  if (row === 'users') return level.load.delivered
  if (row === 'throughput') return level.throughput
  if (row === 'errors') return level.errors / Math.max(1, level.end_s - level.start_s)
  if (row.startsWith(STEP)) {
    const id = run.plate.parts.find((part) => part.name === row.slice(STEP.length))?.id
    const step = level.steps?.find((one) => `step:${one.step}` === id)
    return step?.p95_s ?? null
  }
  return level.utilisation[row.slice(BUSY.length)] ?? null
}

/** The moments that runs can be laid on each other at: the start of their load, of a level, or a note that all have. */
export function anchorsOf(runs: Laid[]): { value: string; text: string }[] {
  const levels = Math.min(...runs.map((run) => run.levels.length))
  const [first, ...others] = runs.map((run) => run.notes.map((note) => note.text))
  const notes = (first ?? []).filter((text) => others.every((own) => own.includes(text)))
  return [
    { value: 'start', text: 'the start of load' },
    ...Array.from({ length: Math.max(0, levels) }, (_, i) => ({
      value: `level ${i + 1}`,
      text: `the start of level ${i + 1}`,
    })).slice(1),
    ...[...new Set(notes)].map((text) => ({ value: `note ${text}`, text })),
  ]
}

/** The second of a run that an anchor is at. */
export function anchorAt(run: Laid, anchor: string): number {
  if (anchor.startsWith('level ')) return run.levels[Number(anchor.slice(6)) - 1]?.start_s ?? 0
  if (anchor.startsWith('note '))
    return run.notes.find((note) => note.text === anchor.slice(5))?.at_s ?? 0
  return 0
}

/** Each run's dots of a row. On the clock they stand at seconds since the anchor, against load one for each level. */
export function drawn(runs: Laid[], row: string, axis: Axis, anchor: string): Drawn[] {
  return runs.map((run) => ({ id: run.id, dots: dotsOf(run, row, axis, anchorAt(run, anchor)) }))
}

function dotsOf(run: Laid, row: string, axis: Axis, zero: number): Dot[] {
  if (axis === 'load')
    return run.levels
      .flatMap((level) => {
        const y = atLevel(run, level, row)
        return y === null ? [] : [{ x: level.load.delivered, y }]
      })
      .sort((a, b) => a.x - b.x)
  const column = columnOf(run.plate, row)
  return run.plate.t.flatMap((t, i) => {
    const y = column[i]
    return t === null || y === null || y === undefined ? [] : [{ x: t - zero, y }]
  })
}

/** Which figure of the comparison a row is, if it is one. */
export function figureOf(row: string, figures: Figure[]): Figure | undefined {
  if (row.startsWith(STEP))
    return figures.find(
      (one) => one.figure === 'p95' && one.subject.endsWith(` / ${row.slice(STEP.length)}`),
    )
  if (row.startsWith(BUSY))
    return figures.find(
      (one) => ['demand', 'held'].includes(one.figure) && one.subject === row.slice(BUSY.length),
    )
  return undefined
}

/** The ratio at each load with its interval, and how far from 1 an interval of no difference would reach. */
export interface Ratios {
  points: { x: number; ratio: number; low: number; high: number }[]
  most: number
}

export function ratiosOf(found: Figure): Ratios {
  const { load, first, second, low, high } = found.by_load
  const points = load
    .map((x, i) => ({
      x,
      ratio: (second[i] ?? 1) / (first[i] ?? 1),
      low: low[i] ?? 1,
      high: high[i] ?? 1,
    }))
    .sort((a, b) => a.x - b.x)
  const ends = points.flatMap((p) => [Math.abs(Math.log(p.ratio)), Math.log1p(found.detectable)])
  return { points, most: Math.min(Math.log(20), Math.max(Math.log(1.2), ...ends) * 1.15) }
}

/** The value of the dot nearest to a place, if one is near enough to be meant. */
export function near(dots: Dot[], x: number, within: number): number | null {
  const best = dots.reduce<Dot | null>(
    (found, dot) => (!found || Math.abs(dot.x - x) < Math.abs(found.x - x) ? dot : found),
    null,
  )
  return best && Math.abs(best.x - x) <= within ? best.y : null
}

export function told(value: number | null, row: Row): string {
  if (value === null) return '–'
  if (row.unit === 'seconds') return seconds(value)
  if (row.unit === 'share') return percent(value)
  return row.unit === 'rate' ? `${figure(value)} /s` : figure(value)
}
