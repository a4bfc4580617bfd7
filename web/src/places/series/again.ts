/** The same experiment at a load that all its candidates can carry. */
import { dataOf, put } from '@/ui/yamlText'
import { drawn, peakOf, type Unit } from '../experiment/load'
import { ORDER, type PlanDoc } from '../experiment/plan'

const HELD = '2 min'

/** The text with one load held instead of its own; each group keeps its share of it. Null where it cannot be read. */
export function heldAt(source: string, amount: number, unit: string): string | null {
  const plan = dataOf(source) as PlanDoc | null | undefined
  if (!plan) return null
  const told =
    unit === 'users' ? `${Math.max(1, Math.round(amount))} users` : `${rate(amount)} a second`
  let text = put(source, ['name'], `${plan.name ?? 'Candidates'} at ${told}`, ORDER)
  if (!plan.groups) return put(text, ['load'], [held(amount, 'users')], ORDER)
  const peaks = plan.groups.map((group) => {
    const of: Unit = group.arrivals ? 'rate' : 'users'
    return peakOf(drawn(group.arrivals ?? group.users ?? [], of))
  })
  const whole = peaks.reduce((sum, peak) => sum + peak, 0) || 1
  plan.groups.forEach((group, i) => {
    const own = (amount * (peaks[i] ?? 0)) / whole
    const of = group.arrivals ? 'arrivals' : 'users'
    text = put(text, ['groups', i, of], [held(own, of === 'arrivals' ? 'rate' : 'users')], ORDER)
  })
  return text
}

const rate = (amount: number) => Number(amount.toPrecision(3))
const held = (amount: number, unit: Unit) =>
  unit === 'users'
    ? { hold: { users: Math.max(1, Math.round(amount)), for: HELD } }
    : { hold: { rate: `${rate(amount)} /s`, for: HELD } }
