import { describe, expect, it } from 'vitest'
import { canBeSet, waitsOf, withWaits } from './waits'

const PLAN = 'name: Walk\n# how they go\njourneys:\n  - {journey: Look}\nload:\n  - hold: 1\n'

describe('the override of think times', () => {
  it('is read from one line or several', () => {
    expect(waitsOf(PLAN)).toEqual({})
    expect(waitsOf(`${PLAN}waits: {factor: 0.5} # half\n`)).toEqual({ factor: 0.5 })
    expect(waitsOf(`${PLAN}waits:\n  think: exponential 2 s\n`)).toEqual({
      think: 'exponential 2 s',
    })
    expect(waitsOf('waits: {think: "1 s"}')).toEqual({ think: '1 s' })
  })

  it('goes before the load, and leaves everything else as it is', () => {
    const set = withWaits(PLAN, { factor: 2 })
    expect(set).toBe(PLAN.replace('load:', 'waits: {factor: 2}\n\nload:'))
    expect(waitsOf(set)).toEqual({ factor: 2 })
    expect(withWaits('name: x', { think: '1 s' })).toBe('name: x\nwaits: {think: 1 s}\n')
  })

  it('takes the place of the one before, or takes it away', () => {
    const before = `waits:\n  think: 2 s\n${PLAN}`
    expect(withWaits(before, { factor: 0 })).toBe(`waits: {factor: 0}\n${PLAN}`)
    expect(withWaits(before, {})).toBe(PLAN)
    expect(withWaits(withWaits(PLAN, { factor: 2 }), {})).toBe(PLAN)
    expect(withWaits(PLAN, {})).toBe(PLAN)
  })

  it('is not set in JSON', () => {
    expect(canBeSet(' {"name": "x"}')).toBe(false)
    expect(canBeSet(PLAN)).toBe(true)
  })
})
