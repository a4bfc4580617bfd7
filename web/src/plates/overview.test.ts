import { describe, expect, it } from 'vitest'
import { moved, overview, widened, WIDTH } from './overview'
import type { Plate, Profile } from './view'

const plate = { t: [0.5, 1.5, 2.5], bin_s: 1, throughput: [1, null, 2] } as unknown as Plate
const profile = (more: object) =>
  ({
    axis: { kind: 'users' },
    duration_s: 60,
    t: [0, 60],
    users: [10, 10],
    rate: [0, 0],
    ...more,
  }) as unknown as Profile

describe('the whole run in a slim picture', () => {
  it('is as long as what is planned, or as what was measured where nothing says an end', () => {
    expect(overview(plate, profile({})).end).toBe(60)
    expect(overview(plate, profile({ endless: true })).end).toBe(3)
    expect(overview(plate, profile({ duration_s: 2 })).end).toBe(3)
  })
  it('leaves a gap where nothing is known', () => {
    expect(overview(plate, profile({})).throughput.match(/M/g)).toHaveLength(2)
    expect(overview(plate, profile({})).terrain).toContain(`L${WIDTH}.0,`)
  })
})

describe('the stretch that is looked at', () => {
  it('is moved within the run and keeps its length', () => {
    expect(moved({ from: 10, until: 20 }, 5, 60)).toEqual({ from: 15, until: 25 })
    expect(moved({ from: 10, until: 20 }, -50, 60)).toEqual({ from: 0, until: 10 })
    expect(moved({ from: 10, until: 20 }, 90, 60)).toEqual({ from: 50, until: 60 })
  })
  it('is made longer on both sides, never longer than the run or shorter than can be told', () => {
    expect(widened({ from: 20, until: 30 }, 5, 60, 5)).toEqual({ from: 15, until: 35 })
    expect(widened({ from: 0, until: 50 }, 20, 60, 5)).toEqual({ from: 0, until: 60 })
    expect(widened({ from: 20, until: 30 }, -9, 60, 6)).toEqual({ from: 22, until: 28 })
  })
})
