import { describe, expect, it } from 'vitest'
import type { FigureHistory, History } from '@/api/history'
import { dateTicks, marksOf, reachOf, stripsOf, told } from './history'

const DAY = 86_400_000
const at = (day: number) => new Date(Date.UTC(2026, 0, 1) + day * DAY).toISOString()
const ratio = (value: number) => ({ value, low: value * 0.9, high: value * 1.1 })

/** Six runs twenty days apart; the third is by the practice twin, the last two are on another level. */
const history = {
  unit: 'users',
  currency: 'EUR',
  runs: [1, 2, 3, 4, 5, 6].map((id) => ({
    id,
    at: at(20 * id),
    seeded: id === 3,
    baseline: id === 1,
  })),
} as unknown as History
const shown = {
  figure: 'p95',
  runs: [3, 1, 2, 4, 5, 6],
  value: [0.2, 0.1, 0.11, 0.1, 0.3, 0.31],
  low: [0.19, 0.09, 0.1, 0.09, 0.28, 0.29],
  high: [0.21, 0.11, 0.12, 0.11, 0.33, 0.34],
  stretches: [
    { first: 1, last: 4, level: ratio(0.1), band: ratio(0.1) },
    { first: 5, last: 6, level: ratio(0.3), band: ratio(0.3) },
  ],
} as unknown as FigureHistory

describe('a history', () => {
  it('has its marks in order of time, whatever kind they are', () => {
    const marks = marksOf(history, shown)
    expect(marks.map((mark) => mark.run)).toEqual([1, 2, 3, 4, 5, 6])
    expect(marks[2]).toMatchObject({ value: 0.2, seeded: true, baseline: false })
  })
  it('steps half way between the runs on both sides of a shift', () => {
    const [first, second] = stripsOf(marksOf(history, shown), shown)
    const middle = (Date.parse(at(80)) + Date.parse(at(100))) / 2
    expect(first?.until).toBe(middle)
    expect(second?.from).toBe(middle)
    expect(first?.from).toBe(Date.parse(at(20)))
    expect(second?.until).toBe(Date.parse(at(120)))
  })
  it('reaches down to nothing only where that is near', () => {
    const marks = marksOf(history, shown)
    expect(reachOf(marks, [])[0]).toBe(0)
    const high = marks.map((mark) => ({ ...mark, low: 95, high: 105 }))
    expect(reachOf(high, [])[0]).toBeGreaterThan(90)
    expect(reachOf([], [])).toEqual([0, 1])
  })
  it('has few date ticks, with the year where it begins', () => {
    const ticks = dateTicks(Date.parse(at(20)), Date.parse(at(330)), 6)
    expect(ticks.length).toBeLessThanOrEqual(6)
    expect(ticks[0]?.text).toContain('2026')
    const days = dateTicks(Date.parse(at(20)), Date.parse(at(24)), 6)
    expect(days.map((tick) => tick.text)).toEqual(['21 Jan', '25 Jan'])
  })
  it('tells values with their units', () => {
    expect(told(0.1234, shown, history)).toBe('123 ms')
    expect(told(420, { ...shown, figure: 'comfort limit' }, history)).toBe('420 users')
    expect(told(0.946, { ...shown, figure: 'cost' }, history)).toBe('0.946 EUR')
    expect(told(0.02, { ...shown, figure: 'error ratio' }, history)).toBe('2.00 %')
  })
})
