/** A distribution as a drawing: bars of shares and the share that took no longer, along one logarithmic scale of time. */
import { percent, seconds, users } from '@/ui/format'
import type { Distribution, Shape } from '@/api/distribution'

export interface Box {
  left: number
  right: number
  top: number
  bottom: number
}
const ROUND = [1, 2, 5]

/** Where a time lies between the edges, on a logarithmic scale. */
export function along(edges: number[], box: Box): (s: number) => number {
  // Nothing takes no time at all: what was too short to be measured stands at the shortest there is.
  const least = Math.max(1e-6, edges[0] ?? 1e-6)
  const most = Math.max(least * 1.01, edges.at(-1) ?? 1)
  const span = Math.log(most / least)
  return (s) => box.left + (Math.log(Math.max(s, least) / least) / span) * (box.right - box.left)
}

/** The bars of a shape as an outline, as high as their share of it; `most` is the share that fills the box. */
export function outline(edges: number[], shape: Shape, most: number, box: Box): string {
  const x = along(edges, box)
  const y = (share: number) => box.bottom - (share / most) * (box.bottom - box.top)
  const steps = shape.bars.map((count, i) => {
    const high = y(shape.count ? count / shape.count : 0).toFixed(1)
    return `V${high}H${x(edges[i + 1] ?? 0).toFixed(1)}`
  })
  return steps.length ? `M${box.left},${box.bottom}${steps.join('')}V${box.bottom}Z` : ''
}

/** The share that took no longer than each edge. */
export function noLonger(shape: Shape): number[] {
  let sum = 0
  return [0, ...shape.bars.map((count) => (sum += count) / Math.max(1, shape.count))]
}

export function rising(edges: number[], shape: Shape, box: Box): string {
  const x = along(edges, box)
  const points = noLonger(shape).map((share, i) => {
    const y = box.bottom - share * (box.bottom - box.top)
    return `${x(edges[i] ?? 0).toFixed(1)},${y.toFixed(1)}`
  })
  return points.length > 1 ? `M${points.join('L')}` : ''
}

export function largest(shapes: Shape[]): number {
  return (
    shapes.reduce((most, { bars, count }) => Math.max(most, ...bars.map((b) => b / count)), 0) || 1
  )
}

/** Round times between the edges to write at the scale. */
export function ticks(edges: number[]): number[] {
  const [least, most] = [Math.max(1e-6, edges[0] ?? 1), edges.at(-1) ?? 1]
  const decades = Math.log10(most / least)
  const wanted = decades > 3 ? [1] : ROUND
  const found: number[] = []
  for (let e = Math.floor(Math.log10(least)); e <= Math.ceil(Math.log10(most)); e += 1)
    for (const one of wanted) {
      const at = one * 10 ** e
      if (at >= least && at <= most) found.push(at)
    }
  return found
}

/** What the figures of a shape mean, with its own numbers. */
export function explained({ count, mean_s, p50_s, p95_s, p99_s }: Shape): string[] {
  if (!count || mean_s === null || p50_s === null) return ['No request succeeded in this stretch.']
  const ratio = mean_s / p50_s
  const beside =
    ratio > 1.02
      ? 'above the median, for a slow one weighs as much as several quick ones'
      : ratio < 0.98
        ? 'below the median, for there are some far quicker than most'
        : 'about the median'
  return [
    `Median: half of the ${users(count)} took no longer than ${seconds(p50_s)}.`,
    `Mean: ${seconds(mean_s)}, the time of all together divided by their number; ${beside}.`,
    `95th percentile: 95 of 100 took no longer than ${seconds(p95_s)}, and one of 20 took longer.`,
    `99th percentile: ${seconds(p99_s)}; one of 100 took longer${
      count < 1000 ? `, here about ${Math.round(count / 100)}: too few to rely on` : ''
    }.`,
  ]
}

/** What a bar tells: between which times it lies, and what each shape has there. */
export function told({ edges_s, shapes }: Distribution, bar: number) {
  const between = `${seconds(edges_s[bar])} to ${seconds(edges_s[bar + 1])}`
  const each = shapes.map((shape) => {
    const count = shape.bars[bar] ?? 0
    const upTo = noLonger(shape)[bar + 1] ?? 0
    return `${users(count)}, ${percent(count / Math.max(1, shape.count))}; ${percent(upTo)} took no longer`
  })
  return { between, each }
}
