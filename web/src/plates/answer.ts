/** An answer of rows and columns as lines: a number along another, apart by a text where there is one. */
import type { SqlAnswer } from '@/api/sql'
import { figure, seconds } from '@/ui/format'

export interface Drawn {
  x: string
  y: string
  /** The text that lines are apart by, if any. */
  by: string | null
  lines: { name: string; points: [number, number | null][] }[]
  /** How many lines are left out. */
  left: number
}
export const MOST_LINES = 6

/** The columns that hold numbers, and those that hold texts. */
export function columnsOf({ columns, rows }: Pick<SqlAnswer, 'columns' | 'rows'>) {
  const held = (kind: string) => (_: unknown, i: number) => {
    const known = rows.map((row) => row[i]).filter((value) => value != null)
    return known.length > 0 && known.every((value) => typeof value === kind)
  }
  const names = (kind: string) => columns.filter(held(kind)).map((column) => column.name)
  return { numbers: names('number'), texts: names('string') }
}

/** The lines of `y` along `x`; null where there are no two points to lead a line through. */
export function drawnOf(
  answer: Pick<SqlAnswer, 'columns' | 'rows'>,
  x: string,
  y: string,
): Drawn | null {
  const place = (name: string) => answer.columns.findIndex((column) => column.name === name)
  const { texts } = columnsOf(answer)
  const by = texts[0] ?? null
  const [xs, ys, names] = [place(x), place(y), by === null ? -1 : place(by)]
  if (xs < 0 || ys < 0) return null
  const lines = new Map<string, [number, number | null][]>()
  for (const row of answer.rows) {
    const at = row[xs]
    if (typeof at !== 'number') continue
    const name = by === null ? y : String(row[names] ?? '–')
    const value = row[ys]
    lines.set(name, [...(lines.get(name) ?? []), [at, typeof value === 'number' ? value : null]])
  }
  const all = [...lines]
    .map(([name, points]) => ({ name, points: points.toSorted((a, b) => a[0] - b[0]) }))
    .filter((line) => new Set(line.points.map((point) => point[0])).size > 1)
  if (!all.length) return null
  const highest = (line: Drawn['lines'][number]) => Math.max(...line.points.map(([, v]) => v ?? 0))
  const shown = all.toSorted((a, b) => highest(b) - highest(a)).slice(0, MOST_LINES)
  return { x, y, by, lines: shown, left: all.length - shown.length }
}

/** Round numbers from at most `low` to at least `high`, some five of them. */
export function roundTicks(low: number, high: number): number[] {
  if (!(high > low)) return [low]
  const rough = (high - low) / 5
  const power = 10 ** Math.floor(Math.log10(rough))
  const step = ([1, 2, 5, 10].find((one) => one * power >= rough) ?? 10) * power
  const first = Math.ceil(low / step - 1e-9)
  const last = Math.floor(high / step + 1e-9)
  return Array.from({ length: last - first + 1 }, (_, i) =>
    Number(((first + i) * step).toPrecision(12)),
  )
}

/** A value as its column's name tells its unit: what ends in _s is in seconds. */
export function valueOf(name: string, value: unknown): string {
  if (value === null || value === undefined) return '–'
  if (typeof value !== 'number') return String(value)
  if (/_s$/.test(name) && !/^(at|from|until)_s$|per_s$/.test(name)) return seconds(value)
  return Number.isInteger(value) ? String(value) : figure(value)
}
