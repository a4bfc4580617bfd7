/** Where the marks of a history stand: runs along time, values upwards. */
import type { FigureHistory, History } from '@/api/history'
import { figure, loadFigure, percent, seconds } from '@/ui/format'

export interface Mark {
  run: number
  at: number
  value: number
  low: number
  high: number
  seeded: boolean
  baseline: boolean
}

/** A stretch of time at one level, with the band in which single runs scatter. */
export interface Strip {
  from: number
  until: number
  level: number
  low: number
  high: number
}

/** The marks of a figure in order of time. */
export function marksOf(history: History, shown: FigureHistory): Mark[] {
  const runs = new Map(history.runs.map((run) => [run.id, run]))
  return shown.runs
    .flatMap((id, i) => {
      const run = runs.get(id)
      const [value, low, high] = [shown.value[i], shown.low[i], shown.high[i]]
      return run && value !== undefined && low !== undefined && high !== undefined
        ? [
            {
              run: id,
              at: Date.parse(run.at),
              value,
              low,
              high,
              seeded: run.seeded,
              baseline: run.baseline,
            },
          ]
        : []
    })
    .sort((a, b) => a.at - b.at)
}

/** The strips of a figure: each reaches half way to the next run outside it, so that a shift is a step between two. */
export function stripsOf(marks: Mark[], shown: FigureHistory): Strip[] {
  return shown.stretches.map(({ first, last, level, band }) => {
    const begin = marks.findIndex((mark) => mark.run === first)
    const end = marks.findIndex((mark) => mark.run === last)
    const kind = marks[begin]?.seeded
    const before = marks.slice(0, begin).findLast((mark) => mark.seeded === kind)
    const after = marks.slice(end + 1).find((mark) => mark.seeded === kind)
    const from = marks[begin]?.at ?? 0
    const until = marks[end]?.at ?? 0
    return {
      from: before ? (before.at + from) / 2 : from,
      until: after ? (after.at + until) / 2 : until,
      level: level.value,
      low: band.low,
      high: band.high,
    }
  })
}

/** The ends of the value axis: everything drawn, with a little room; down to nothing where that is near. */
export function reachOf(marks: Mark[], strips: Strip[]): [number, number] {
  const ends = [...marks, ...strips].flatMap((one) => [one.low, one.high])
  if (!ends.length) return [0, 1]
  const [low, high] = [Math.min(...ends), Math.max(...ends)]
  const room = 0.08 * (high - low || high || 1)
  return [low - room < 0.25 * high ? 0 : low - room, high + room]
}

/** Months, quarters or years between two moments, as few as fit. */
export function dateTicks(
  from: number,
  until: number,
  most: number,
): { at: number; text: string }[] {
  const begin = new Date(from)
  const found: Date[] = []
  for (
    let month = new Date(begin.getFullYear(), begin.getMonth(), 1);
    month.getTime() <= until;
    month = new Date(month.getFullYear(), month.getMonth() + 1, 1)
  )
    found.push(month)
  const every = [1, 2, 3, 6, 12, 24, 60].find((n) => found.length / n <= most) ?? 120
  const ticks = found.filter(
    (month) =>
      month.getTime() >= from && (month.getFullYear() * 12 + month.getMonth()) % every === 0,
  )
  if (ticks.length < 2) {
    const days = [from, until].map((at) => new Date(at))
    return days.map((at) => ({
      at: at.getTime(),
      text: at.toLocaleDateString('en-GB', { day: 'numeric', month: 'short' }),
    }))
  }
  return ticks.map((at, i) => ({
    at: at.getTime(),
    text: at.toLocaleDateString('en-GB', {
      month: 'short',
      ...(i === 0 || at.getMonth() < every ? { year: 'numeric' } : {}),
    }),
  }))
}

/** A value of a figure with its unit. */
export function told(value: number, shown: FigureHistory, history: History): string {
  if (shown.figure === 'p95' || shown.figure === 'demand') return seconds(value)
  if (shown.figure === 'error ratio') return percent(value)
  if (shown.figure === 'cost') return `${figure(value)} ${history.currency}`
  return `${loadFigure(value)} ${history.unit}`
}
