/** The planned load as terrain: groups stacked on each other, on one clock. */
import type { Point } from '@/places/experiment/load'

export interface Layer {
  name: string
  points: Point[]
}
/** A layer on top of those below it: from `low` to `high` at each moment, two where it jumps. */
export interface Stacked {
  name: string
  edges: { t: number; low: number; high: number }[]
}

/** The load just before and just after a moment. */
export function limits(points: Point[], t: number): [number, number] {
  let [a, b] = [0, points.length]
  while (a < b) {
    const middle = (a + b) >> 1
    if ((points[middle] as Point)[0] < t) a = middle + 1
    else b = middle
  }
  const [before, here] = [points[a - 1], points[a]]
  if (!here) return [0, 0]
  const left = before
    ? here[0] === t
      ? here[1]
      : before[1] + ((here[1] - before[1]) * (t - before[0])) / (here[0] - before[0])
    : here[0] === t
      ? 0
      : 0
  if (here[0] !== t) return [left, left]
  let last = a
  while (points[last + 1] && (points[last + 1] as Point)[0] === t) last += 1
  return [left, last === points.length - 1 ? 0 : (points[last] as Point)[1]]
}

export function stacked(layers: Layer[]): Stacked[] {
  const moments = [...new Set(layers.flatMap((layer) => layer.points.map(([t]) => t)))].sort(
    (a, b) => a - b,
  )
  const floor = moments.map(() => [0, 0] as [number, number])
  return layers.map(({ name, points }) => {
    const edges = moments.flatMap((t, i) => {
      const [left, right] = limits(points, t)
      const [lowLeft, lowRight] = floor[i] as [number, number]
      floor[i] = [lowLeft + left, lowRight + right]
      return [
        { t, low: lowLeft, high: lowLeft + left },
        { t, low: lowRight, high: lowRight + right },
      ]
    })
    return { name, edges }
  })
}

const STEPS_S = [
  1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 900, 1800, 3600, 7200, 14_400, 43_200, 86_400,
]

/** Moments to write at an axis of `seconds`, at most so many. */
export function clockTicks(seconds: number, most: number): number[] {
  const step =
    STEPS_S.find((s) => seconds / s <= most) ?? 86_400 * Math.ceil(seconds / 86_400 / most)
  return Array.from({ length: Math.floor(seconds / step + 1e-9) + 1 }, (_, i) => i * step)
}

/** Round amounts from 0 to at least `peak`. */
export function loadTicks(peak: number, most: number): number[] {
  const rough = Math.max(peak, 1e-9) / most
  const size = 10 ** Math.floor(Math.log10(rough))
  const step = [1, 2, 5, 10].map((n) => n * size).find((s) => s >= rough) ?? 10 * size
  const count = Math.ceil(peak / step - 1e-9)
  return Array.from({ length: count + 1 }, (_, i) => Number((i * step).toPrecision(6)))
}
