/** Expected load over the coming days with the loads that components suffice for. */
import type { CapacityAnswer } from '@/api/capacity'

export interface Ceiling {
  /** A component, or "all" of the system. */
  name: string
  load: number
  /** As it is now, or as it is planned. */
  of: 'now' | 'planned'
  /** The first day on which the expected load is above it. */
  passed: number | null
  lowest: boolean
}

const at = (day: string) => Date.parse(`${day}T00:00:00Z`)

/** The ceilings of the present system and of the plan that lie within reach of the picture, the highest first. */
export function ceilingsOf(answer: CapacityAnswer, most: number): Ceiling[] {
  const found: Ceiling[] = []
  for (const of of ['now', 'planned'] as const) {
    const own = answer.components.flatMap((one) => {
      const load = of === 'now' ? one.now_ceiling : one.ceiling
      return load === null || load === undefined ? [] : [{ name: one.name, load }]
    })
    const lowest = Math.min(...own.map((one) => one.load))
    for (const one of own)
      if (one.load <= most || one.load === lowest)
        found.push({ ...one, of, passed: passing(answer, one.load), lowest: one.load === lowest })
  }
  return found.sort((a, b) => b.load - a.load)
}

/** The moment at which the expected load first goes above a load; null where it does not. */
export function passing(answer: CapacityAnswer, load: number): number | null {
  const days = answer.timeline
  const over = days.findIndex((day) => day.load > load)
  const [before, after] = [days[over - 1], days[over]]
  if (!after) return null
  if (!before) return at(after.on)
  const share = (load - before.load) / (after.load - before.load)
  return at(before.on) + share * (at(after.on) - at(before.on))
}

/** The end of the load axis: what is expected, what the plan carries, and some room. */
export function reachOf(answer: CapacityAnswer): number {
  const loads = answer.timeline.map((day) => day.load)
  const own = answer.components.flatMap((one) => [one.ceiling, one.now_ceiling])
  const carried = own.filter((load): load is number => load !== null && load !== undefined)
  const least = carried.length ? Math.min(...carried.filter((load) => load > 0), Infinity) : 0
  const most = Math.max(...loads, Number.isFinite(least) ? least : 0, answer.carried ?? 0)
  return most > 0 ? 1.15 * most : 1
}

/** Points of the expected load: moment and load. */
export function expectedOf(answer: CapacityAnswer): [number, number][] {
  return answer.timeline.map((day) => [at(day.on), day.load])
}

/** Labels at the right edge, each at least so far below the one above it. */
export function apart(wanted: number[], least: number): number[] {
  const found: number[] = []
  for (const y of wanted) found.push(Math.max(y, (found.at(-1) ?? -Infinity) + least))
  return found
}
