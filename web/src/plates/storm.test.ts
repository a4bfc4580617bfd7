import { describe, expect, it } from 'vitest'
import type { StormFindings } from '@/api/changes'
import { marksOf, spanOf, steps, stripsOf } from './storm'

const found = {
  asked: 4,
  accepted_s: 0.2,
  curve: [
    { after_s: 1, ready: 1 },
    { after_s: 2, ready: 3 },
    { after_s: 9, ready: 4 },
  ],
  marks: [
    { share: 50, after_s: 2 },
    { share: 90, after_s: 9 },
    { share: 99, after_s: 9 },
    { share: 100, after_s: 9 },
  ],
  disks: [],
  strips: [{ words: 'cpu', from_s: -10, every_s: 1, values: Array<number | null>(35).fill(0.2) }],
} as unknown as StormFindings

describe('a storm as a vessel that fills', () => {
  it('begins where the strips under it do, and ends with them', () => {
    expect(spanOf(found)).toEqual([-10, 25])
    expect(spanOf({ ...found, strips: [] })).toEqual([0, 9])
  })
  it('rises by a step for each that came', () => {
    expect(steps(found, 12)).toEqual([
      [0, 0],
      [1, 0],
      [1, 1],
      [2, 1],
      [2, 3],
      [9, 3],
      [9, 4],
      [12, 4],
    ])
  })
  it('has marks at its side, those that would cover each other as one', () => {
    const marks = marksOf(found, (ready) => 100 - 10 * ready, 12)
    expect(marks.map((one) => one.shares)).toEqual([[50], [90, 99, 100]])
    expect(marks[1]?.after).toBe(9)
    const never = { ...found, marks: [{ share: 50, after_s: null }] } as unknown as StormFindings
    expect(marksOf(never, (ready) => ready, 12)).toEqual([])
  })
  it('has what was busy and what disks did under it, reading and writing in one strip', () => {
    const use = (rate: number, took_s: number | null) => ({ rate, took_s, size_bytes: null })
    const disk = (op: 'read' | 'write', took_s: number | null) => ({
      component: 'ledger',
      op,
      before: use(1, null),
      meanwhile: use(2, took_s),
      from_s: -10,
      every_s: 2,
      values: [use(1, null), use(2, took_s)],
    })
    const told = stripsOf({ ...found, disks: [disk('read', 0.004), disk('write', 0.02)] })
    // Of blocks nothing was told: no strip is drawn for them.
    expect(told.map((one) => one.words)).toEqual(['cpu', 'ledger disk rate', 'ledger disk time'])
    expect(told.map((one) => one.told)).toEqual(['up to 20 %', 'up to 2.00 /s', 'up to 20.0 ms'])
    expect(told[2]?.lines).toEqual([
      { op: 'read', values: [null, 0.004] },
      { op: 'write', values: [null, 0.02] },
    ])
    expect([told[2]?.from, told[2]?.every, told[2]?.most]).toEqual([-10, 2, 0.02])
  })
})
