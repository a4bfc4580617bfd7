import { describe, expect, it } from 'vitest'
import type { CapacityAnswer } from '@/api/capacity'
import { apart, ceilingsOf, passing, reachOf } from './capacity'

const component = (name: string, now: number | null, planned: number | null) => ({
  name,
  metered: true,
  now: 1,
  now_size: '',
  now_ceiling: now,
  until: null,
  planned: 2,
  size: '',
  per_hour: 1,
  resource: '',
  use: null,
  use_lost: null,
  ceiling: planned,
})
const answer = {
  carried: 400,
  components: [
    component('web', 300, 900),
    component('store', 150, 400),
    component('mail', null, null),
  ],
  timeline: [
    { on: '2027-01-01', load: 100, told: true, note: '' },
    { on: '2027-01-11', load: 200, told: true, note: 'fair' },
    { on: '2027-01-21', load: 120, told: false, note: '' },
  ],
} as unknown as CapacityAnswer

describe('ceilings across the expected load', () => {
  it('lie within the picture, but for the lowest of each, which always shows', () => {
    const shown = ceilingsOf(answer, 500)
    expect(shown.map((one) => `${one.of} ${one.name}`)).toEqual([
      'planned store',
      'now web',
      'now store',
    ])
    expect(shown.filter((one) => one.lowest).map((one) => one.load)).toEqual([400, 150])
    expect(ceilingsOf(answer, 50).every((one) => one.lowest)).toBe(true)
  })
  it('are broken from the moment on which the load passes them', () => {
    expect(new Date(passing(answer, 150) ?? 0).toISOString().slice(0, 10)).toBe('2027-01-06')
    expect(passing(answer, 200)).toBeNull()
    expect(new Date(passing(answer, 50) ?? 0).toISOString().slice(0, 10)).toBe('2027-01-01')
  })
})

describe('the picture', () => {
  it('reaches above what is expected and what the plan carries', () => {
    expect(reachOf(answer)).toBeCloseTo(460)
    expect(reachOf({ ...answer, carried: null, components: [] })).toBeCloseTo(230)
  })
  it('keeps labels apart', () => {
    expect(apart([10, 12, 50], 14)).toEqual([10, 24, 50])
  })
})
