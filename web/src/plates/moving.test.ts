import { describe, expect, it } from 'vitest'
import type { Beside, Line } from '@/api/moving'
import { caption, chance, described, movesHow, nameOf, scatterOf, verdict } from './moving'

const together = { correlation: 0.8, lag_s: 0, p: 1e-6, false_share: 1e-5 }
const line: Line = {
  key: 'a', component: 'ledger', name: 'disk latency, mean', of: '', also: [], unit: 's', at: null, pin: null,
  standing: 'moves', plain: together, apart: together, swing: 1, varies: 2, values: [0.01, 0.02, null, 0.03],
} // prettier-ignore
const beside: Beside = {
  answer: true, from_s: 0, until_s: 300, of: 'step:1', row: 'response', title: 'the response time of Buy ticket',
  unit: 's', block_s: 5, blocks: 60, unexplained: 1.06, enough: true, most_false: 0.02, metrics: 45, left_out: 0,
  read: true, lines: [line], a_little: 0, did_not: [], unknown: [], still: [], values: [0.1, 0.2, 0.3, null],
} // prettier-ignore
const moved = (correlation: number, lag_s: number) => ({
  ...line,
  apart: { ...together, correlation, lag_s },
})

describe('how a metric moves', () => {
  it.each([
    [0.8, 0, 'rises with it'],
    [-0.8, 2, 'falls with it'],
    [0.8, 4, 'rises 4 s before it'],
    [-0.5, -30, 'falls 30 s after it'],
  ])('of %s at a lag of %s s is told as: %s', (correlation, lag, text) =>
    expect(movesHow(moved(correlation, lag))).toBe(text),
  )
  it('names what it is of, and chance in percent', () => {
    expect(nameOf({ name: 'queue length', of: 'ledger:2' })).toBe('queue length of ledger:2')
    expect([0.00002, 0.004, 0.12, 0.9].map(chance)).toEqual(['< 0.1 %', '0.4 %', '12 %', 'likely'])
  })
})

describe('the verdict', () => {
  it('names the surest, and how many more', () => {
    const [first, second] = verdict({ ...beside, lines: [moved(0.8, 4), line] })
    expect(first).toBe(
      'ledger disk latency, mean rises 4 s before the response time of Buy ticket. So do 1 more.',
    )
    expect(second).toContain('reaches 106 % of its mean beyond what the load explains')
    expect(second).toContain('45 metrics in 60 blocks of 5 s; of those named, 2 % at most')
  })
  it('says that there is nothing to look for, even where something goes with it', () => {
    const [first] = verdict({ ...beside, enough: false, unexplained: 0.2 })
    expect(first).toBe(
      'The response time of Buy ticket is about what the load makes of it: there is little to look for.',
    )
  })
  it('does not hide that nothing measured explains it', () => {
    const lines = [{ ...line, standing: 'unknown' as const }]
    expect(verdict({ ...beside, lines })[0]).toContain(
      'what does may not be measured, or too short a time',
    )
    expect(verdict({ ...beside, answer: false })[0]).toContain('too little of it was measured')
  })
})

describe('the scatter', () => {
  const box = { left: 10, right: 110, top: 0, bottom: 100 }
  it('pairs what both blocks know, the metric along and the row up', () => {
    const found = scatterOf(line, beside.values, box)
    expect(found?.points.map(({ x, y }) => [x, y])).toEqual([
      [10, 100],
      [110, 0],
    ])
    expect(found && described(line, beside, found)).toBe(
      'The response time of Buy ticket, 100 ms to 200 ms, against ledger disk latency, mean, 10.0 ms to 20.0 ms: 2 blocks.',
    )
  })
  it('draws what spans much along a logarithmic scale', () => {
    const found = scatterOf({ values: [1, 2, 3] }, [0.1, 1, 10], box)
    expect(found?.logarithmic).toBe(true)
    expect(found?.points[1]?.y).toBeCloseTo(50)
  })
  it('is told with the shift under which it is drawn', () => {
    expect(caption(moved(0.5, 4), 'the response time of Buy ticket', true)).toBe(
      'The response time of Buy ticket against ledger disk latency, mean, 4 s earlier, block by block, as they are; upwards a logarithmic scale.',
    )
    expect(caption(moved(0.5, 1), 'the share', false)).toContain(
      'mean, block by block, as they are.',
    )
  })
  it('draws nothing of what stands still or is unknown', () => {
    expect(scatterOf({ values: [1, 1, 1] }, [1, 2, 3], box)).toBeNull()
    expect(scatterOf({ values: [null, null] }, [1, 2], box)).toBeNull()
  })
})
