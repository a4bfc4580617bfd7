import { describe, expect, it } from 'vitest'
import type { ScalingFindings } from '@/api/series'
import { extentOf, silentFrom, sureOf, wholeTicks } from './scaling'

const point = (amount: number | null, value: number | null, atLeast: number | null = null) => ({
  amount,
  limit: value === null ? null : { value, low: 0.95 * value, high: 1.05 * value },
  at_least: atLeast,
})
const told = (amount: number, value: number, wide = false) => ({
  amount,
  limit: { value, low: 0.9 * value, high: 1.1 * value },
  wide,
})
const found = (more: object) =>
  ({
    points: [point(1, 50), point(2, 98), point(4, null, 150)],
    band: [told(1, 50), told(4, 190), told(6, 280), told(8, 370, true)],
    told_to: 8,
    ...more,
  }) as unknown as ScalingFindings

describe('the picture of what adding brings', () => {
  it('goes some way beyond what is told, so that what is not has a place', () => {
    const extent = extentOf(found({}))
    expect(extent?.last).toBe(10)
    expect(extent?.first).toBeCloseTo(0.46)
    // As high as what is told, and not as what is too wide to be.
    expect(extent?.most).toBeCloseTo(1.12 * 1.1 * 280)
  })
  it('has no axis where no value is a number', () => {
    expect(extentOf(found({ points: [point(null, 50)] }))).toBeNull()
  })
  it('ends at the points where nothing is foretold', () => {
    const extent = extentOf(found({ band: [], told_to: 4 }))
    expect(extent?.last).toBeCloseTo(4.3)
    expect(extent?.most).toBeCloseTo(1.12 * 150)
  })
  it('draws the fan as far as it is told, and says from where on it is not and why', () => {
    expect(sureOf(found({})).map((one) => one.amount)).toEqual([1, 4, 6])
    expect(silentFrom(found({}))).toEqual({ from: 8, why: 'the data leave too much room' })
    expect(silentFrom(found({ band: [told(1, 50), told(8, 370)] }))?.why).toBe(
      'too far from what was measured',
    )
    expect(silentFrom(found({ band: [] }))).toBeNull()
  })
  it('is marked at whole numbers', () => {
    expect(wholeTicks(0.5, 10, 12)).toEqual([1, 2, 3, 4, 5, 6, 7, 8, 9, 10])
    expect(wholeTicks(0.5, 40, 6)).toEqual([10, 20, 30, 40])
  })
})
