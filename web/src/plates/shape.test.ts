import { describe, expect, it } from 'vitest'
import type { Shape } from '@/api/distribution'
import { users } from '@/ui/format'
import { along, explained, largest, noLonger, outline, rising, ticks, told } from './shape'

const EDGES = [0.01, 0.1, 1]
const BOX = { left: 0, right: 100, top: 0, bottom: 50 }
const shape = (bars: number[], more: Partial<Shape> = {}): Shape => ({
  from_s: 0, until_s: 10, count: bars.reduce((a, b) => a + b, 0), bars,
  mean_s: 0.2, p50_s: 0.05, p95_s: 0.8, p99_s: 0.9, ...more,
}) // prettier-ignore

describe('the shape of a distribution', () => {
  it('lies along a logarithmic scale, and nothing lies before it', () => {
    const x = along(EDGES, BOX)
    expect([0.01, 0.1, 1].map(x).map(Math.round)).toEqual([0, 50, 100])
    expect(x(0)).toBe(0)
    expect(Number.isFinite(along([], BOX)(1))).toBe(true)
    expect(Number.isFinite(along([0, 1e-6], BOX)(0))).toBe(true)
  })
  it('has bars as high as their shares, and rises to all of them', () => {
    const quick = shape([3, 1])
    expect(outline(EDGES, quick, 0.75, BOX)).toBe('M0,50V0.0H50.0V33.3H100.0V50Z')
    expect(noLonger(quick)).toEqual([0, 0.75, 1])
    expect(rising(EDGES, quick, BOX)).toBe('M0.0,50.0L50.0,12.5L100.0,0.0')
    expect(largest([quick, shape([0, 9])])).toBe(1)
    expect(outline([], shape([]), 1, BOX)).toBe('')
    expect(rising([], shape([]), BOX)).toBe('')
  })
  it('has round times at its scale', () => {
    expect(ticks(EDGES)).toEqual(
      [0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1].map((at) => expect.closeTo(at, 9)),
    )
    expect(ticks([1e-5, 10])).toHaveLength(7)
  })
  it('is explained with its own numbers, and claims no more', () => {
    const words = explained(shape([3000, 1000])).join(' ')
    expect(words).toContain(`half of the ${users(4000)} took no longer than 50.0 ms`)
    expect(words).toContain('above the median')
    expect(words).not.toContain('too few')
    expect(explained(shape([3, 1], { mean_s: 0.05 })).join(' ')).toContain('about the median')
    expect(explained(shape([3, 1], { mean_s: 0.03 })).join(' ')).toContain('below the median')
    expect(explained(shape([300])).at(-1)).toContain('about 3: too few to rely on')
    const none = { mean_s: null, p50_s: null, p95_s: null, p99_s: null }
    expect(explained(shape([], none))).toEqual(['No request succeeded in this stretch.'])
  })
  it('tells what each bar holds, of both', () => {
    const both = {
      of: 'all',
      name: 'All steps',
      edges_s: EDGES,
      shapes: [shape([3, 1]), shape([0, 4])],
    }
    expect(told(both, 0)).toEqual({
      between: '10.0 ms to 100 ms',
      each: ['3, 75 %; 75 % took no longer', '0, 0 %; 0 % took no longer'],
    })
  })
})
