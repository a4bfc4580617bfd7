/** Pinned figures as rows of the plate: lines, or a distribution over time. */
import type { Schemas } from '@/api/client'
import { amount } from '@/ui/format'
import { dashed, DASH_MARKS } from './lines'
import type { PlateRow } from './rows'
import { cellRow } from './strip'
import { at, type Column, type Place, type Point, type View } from './view'

export type PinRow = Schemas['PinRow']

const HEIGHT = { lines: 46, title: 18, line: 16, spread: 58, nothing: 30 }

export function pinRow(view: View, pin: PinRow, number: number): PlateRow {
  const lines = pin.lines.length > 0
  const unit = /^(s|B|B\/s|share)\b/.exec(pin.unit)?.[0] ?? ''
  return {
    id: `pin:${number}`,
    name: pin.title,
    kind: 'pin',
    height: pinHeight(pin),
    scale: {
      max: lines ? undefined : 1,
      tick: lines ? (value) => amount(value, unit) : null,
      parts: 1,
      lines: false,
      atZero: false,
    },
    measure:
      pin.lines.length === 1
        ? {
            name: pin.title,
            value: (place) => at(pin.lines[0]?.values ?? [], place),
            tell: (value) => amount(value, pin.unit),
          }
        : undefined,
    series: (grid) =>
      pin.spread.length
        ? [spread(view, pin, grid)]
        : pin.lines.map((line, k) => {
            const points = view.places.map((place): Point => [place.x, at(line.values, place)])
            return dashed(grid, view.tokens.ink, points, k, view.axis === 'load')
          }),
    figures: (place) => pinFigures(pin, (values) => at(values, place)),
  }
}

export function pinHeight(pin: PinRow): number {
  if (pin.lines.length) return Math.max(HEIGHT.lines, HEIGHT.title + HEIGHT.line * pin.lines.length)
  return pin.spread.length ? HEIGHT.spread : HEIGHT.nothing
}

/** A row of cells for each bucket that ever holds something, the smallest at the bottom. */
function spread(view: View, pin: PinRow, grid: number) {
  const used = usedBuckets(pin)
  const bands = used.map((b, row) => ({
    low: row / used.length,
    high: (row + 1) / used.length,
    value: (place: Place) => at(pin.spread[b] ?? [], place),
  }))
  return cellRow(grid, view.places, bands, view.tokens)
}

export function usedBuckets(pin: PinRow): number[] {
  const some = pin.spread.map((share) => share.some((s) => (s ?? 0) > 0.005))
  const first = some.indexOf(true)
  const last = some.lastIndexOf(true)
  return some.map((_, i) => i).filter((i) => i >= first && i <= last && first >= 0)
}

/** What stands beside a pin: its values at the cursor, or why there is none. */
export function pinFigures(pin: PinRow, value: (values: Column) => number | null): string[] {
  if (pin.spread.length) {
    const shares = pin.spread.map((share) => value(share) ?? 0)
    const bound = (share: number) => {
      let sum = 0
      const i = shares.findIndex((s) => (sum += s) >= share)
      return i < 0 ? '–' : boundText(pin, i)
    }
    const total = shares.reduce((sum, s) => sum + s, 0)
    return total > 0 ? [`half ${bound(0.5)}`, `95 % ${bound(0.95)}`] : ['–']
  }
  if (!pin.lines.length) return ['not read in this run']
  if (pin.lines.length === 1) return [amount(value(pin.lines[0]?.values ?? []), pin.unit)]
  return pin.lines.map(
    (line, k) => `${DASH_MARKS[k]} ${amount(value(line.values), pin.unit)} ${line.label}`,
  )
}

function boundText(pin: PinRow, i: number): string {
  const bound = pin.bounds[i]
  return bound == null
    ? `over ${amount(pin.bounds[i - 1], pin.unit)}`
    : `≤ ${amount(bound, pin.unit)}`
}
