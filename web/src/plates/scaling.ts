/** What a scaling experiment found, as a picture: the axes, the fan that fades, and what stands at its edges. */
import type { ScalingFindings } from '@/api/series'

export interface Extent {
  first: number
  /** The end of the axis: some way beyond what is told, so that what is not told has a place. */
  last: number
  most: number
}

/** From which amount to which the axis goes, and up to which rate; null where no value is a number. */
export function extentOf(found: ScalingFindings): Extent | null {
  const amounts = found.points.flatMap((one) => (one.amount === null ? [] : [one.amount]))
  if (!amounts.length) return null
  const furthest = Math.max(...amounts, found.told_to)
  const least = Math.min(...amounts)
  const told = [
    ...found.points.flatMap((one) => [one.limit?.high ?? 0, one.at_least ?? 0]),
    ...sureOf(found).map((one) => one.limit.high),
  ]
  const last = found.band.length ? furthest * 1.25 : furthest + 0.1 * (furthest - least || 1)
  return {
    first: Math.max(0, least - 0.06 * (last - least)),
    last,
    most: 1.12 * (Math.max(...told) || 1),
  }
}

/** The part of the band that is told: where the data leave little enough room. */
export function sureOf(found: ScalingFindings) {
  return found.band.filter((one) => !one.wide)
}

/** Where what is told ends: the amount, and why in words; null where all along the axis is told. */
export function silentFrom(found: ScalingFindings): { from: number; why: string } | null {
  if (!found.band.length) return null
  const wide = found.band.find((one) => one.wide)
  if (wide) return { from: wide.amount, why: 'the data leave too much room' }
  return { from: found.told_to, why: 'too far from what was measured' }
}

/** Whole marks along an axis, about so many. */
export function wholeTicks(first: number, last: number, about: number): number[] {
  const step =
    [1, 2, 5, 10, 20, 50, 100, 200, 500].find((one) => (last - first) / one <= about) ?? 1000
  const found: number[] = []
  for (let at = Math.ceil(first / step) * step; at <= last; at += step) found.push(at)
  return found
}
