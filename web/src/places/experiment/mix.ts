/** Shares of a whole as parts of one bar, whose borders can be moved. */

export interface Portion {
  name: string
  /** Of the whole, 0..1. */
  share: number
}

/** The smallest part a border leaves: one of a hundred. */
const LEAST = 1

/** The portions as whole hundredths that add up to a hundred, none of them under one (largest remainders). */
export function hundredths(portions: Portion[]): number[] {
  const whole = portions.reduce((sum, one) => sum + one.share, 0) || 1
  const exact = portions.map((one) => (one.share / whole) * 100)
  const found = exact.map((value) => Math.max(LEAST, Math.floor(value)))
  const byRest = exact
    .map((value, i) => ({ i, rest: value - Math.floor(value) }))
    .sort((a, b) => b.rest - a.rest || a.i - b.i)
  let left = 100 - found.reduce((sum, value) => sum + value, 0)
  for (let k = 0; left > 0; k += 1, left -= 1) found[byRest[k % byRest.length]!.i]! += 1
  while (left < 0) {
    found[found.indexOf(Math.max(...found))]! -= 1
    left += 1
  }
  return found
}

/** The hundredths after the border behind part `border` went to `place` (0..100); only its two neighbours change. */
export function withBorder(parts: number[], border: number, place: number): number[] {
  const before = parts.slice(0, border).reduce((sum, value) => sum + value, 0)
  const both = (parts[border] ?? 0) + (parts[border + 1] ?? 0)
  const own = Math.min(both - LEAST, Math.max(LEAST, Math.round(place) - before))
  return parts.map((value, i) => (i === border ? own : i === border + 1 ? both - own : value))
}

/** Where the border behind part `border` stands, 0..100. */
export const placeOf = (parts: number[], border: number) =>
  parts.slice(0, border + 1).reduce((sum, value) => sum + value, 0)
