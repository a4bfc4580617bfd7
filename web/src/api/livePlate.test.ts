import { describe, expect, it } from 'vitest'
import { cursor, hasNewSecond, joined, type LivePlate } from './livePlate'

function plate(from: number, seconds: number, changes: Partial<LivePlate> = {}): LivePlate {
  const start = Array.from({ length: seconds }, (_, i) => from + i)
  const t = start.map((second) => second + 0.5)
  const column = t.map((x) => x * 10)
  return {
    state: 'running', elapsed_s: from + seconds, story: 0, standing: [], first: 0, sequence: from + seconds, same: false, whole: false, bin_s: 1, start, t,
    planned: column, users: column, in_flight: column, throughput: column, errors: column, of: 'step:1',
    mean: column, p50: column, p95: column, p99: column, blur: column, stalls: [], events: [], pins: [], groups: [], parts: [], regions: [], error_kinds: [], served: [], journeys: column, received: column, requests: column,
    selections: [],
    resources: [
      { key: 'ledger.cpu', component: 'ledger', name: 'cpu', kind: 'cpu', capacity: column, utilisation: column, waiting: null, instance_count: 1, instances: [] },
    ],
    ...changes,
  } // prettier-ignore
}

describe('a live plate', () => {
  it('asks for everything first, then for what was written since', () => {
    const shown = { of: '', split: '', from_s: 0, until_s: 0, last_s: 0 } as const
    expect(cursor(undefined, shown)).toEqual({ after: 0, bin_s: 0, has: '', ...shown })
    expect(cursor(plate(0, 20), shown)).toEqual({ after: 20, bin_s: 1, has: 'step:1', ...shown })
  })
  it('grows by what came, and takes the newer of what it has twice', () => {
    const fresh = plate(15, 7, { throughput: [1, 2, 3, 4, 5, 6, 7] })
    const grown = joined(plate(0, 20), fresh)
    expect(grown.t).toEqual(plate(0, 22).t)
    expect(grown.throughput.slice(14, 17)).toEqual([145, 1, 2])
    expect(grown.resources[0]?.utilisation).toHaveLength(22)
    expect([grown.elapsed_s, grown.sequence]).toEqual([22, 22])
  })
  it('puts a second that was told late in its place', () => {
    const grown = joined(plate(0, 4), plate(1, 1, { users: [99], sequence: 7 }))
    expect(grown.users).toEqual([5, 99, 25, 35])
    expect(grown.sequence).toBe(7)
  })
  it('is empty where nobody told anything, until somebody does', () => {
    const gap = joined(plate(0, 2), plate(4, 1))
    expect(gap.t).toEqual([0.5, 1.5, 2.5, 3.5, 4.5])
    expect(gap.users).toEqual([5, 15, null, null, 45])
    expect(joined(gap, plate(2, 2)).users).toEqual([5, 15, 25, 35, 45])
  })
  it('has news where a second was told, not where more is known of an earlier one', () => {
    const have = plate(0, 20)
    const meters = { ...plate(19, 1), sequence: 21 }
    expect([have, meters, plate(20, 1)].map((fresh) => hasNewSecond(have, fresh))).toEqual([
      false,
      false,
      true,
    ])
    expect(hasNewSecond(undefined, have)).toBe(true)
  })
  it('stays the very same where nothing was written, but for what is told beside', () => {
    const have = plate(0, 20, { story: 3 })
    const none = {
      ...plate(20, 0),
      sequence: 20,
      same: true,
      resources: [],
      elapsed_s: 20,
      story: 3,
    }
    expect(joined(have, none)).toBe(have)
    const later = joined(have, { ...none, state: 'draining', story: 4 })
    expect(later).toEqual({ ...have, state: 'draining', story: 4 })
    const stands = (value: number) => [{ kind: 'objective', text: 'p95', value, limit: 0.05 }]
    const worse = joined({ ...have, standing: stands(0.1) }, { ...none, standing: stands(0.2) })
    expect(worse.standing).toEqual(stands(0.2))
  })
  it('has no resource any more that is gone', () => {
    expect(joined(plate(0, 4), plate(0, 4, { resources: [] })).resources).toEqual([])
  })
  it('keeps kinds of errors and names of servers that a look says nothing new of', () => {
    const have = plate(0, 2, {
      error_kinds: [{ kind: 'status 503', errors: [1, 2] }],
      served: [{ name: 'ledger', mean_s: [0.1, 0.2] }],
    })
    const fresh = plate(2, 1, {
      error_kinds: [{ kind: 'time limit', errors: [4] }],
      served: [{ name: 'ledger', mean_s: [0.3] }],
    })
    const grown = joined(have, fresh)
    expect(grown.error_kinds).toEqual([
      { kind: 'status 503', errors: [1, 2, null] },
      { kind: 'time limit', errors: [null, null, 4] },
    ])
    expect(grown.served).toEqual([{ name: 'ledger', mean_s: [0.1, 0.2, 0.3] }])
  })
  it('begins where its window does', () => {
    const part = plate(6, 3, { first: 6 })
    const grown = joined(part, { ...plate(9, 2, { first: 6 }), whole: false })
    expect(grown.start).toEqual([6, 7, 8, 9, 10])
  })

  it('keeps everything where nothing is new', () => {
    const nothing = plate(20, 0, { sequence: 20 })
    expect(joined(plate(0, 20), nothing).throughput).toEqual(plate(0, 20).throughput)
  })
  it('begins anew with all there is', () => {
    const wider = plate(0, 4, { bin_s: 10, whole: true })
    expect(joined(plate(0, 20), wider)).toBe(wider)
  })
  it('leaves blank what a resource was before it was first read', () => {
    const late = joined(plate(0, 4, { resources: [] }), plate(2, 4))
    expect(late.resources[0]?.utilisation).toEqual([null, null, 25, 35, 45, 55])
  })
  it('keeps marks once', () => {
    const stall = (t: number) => ({ t, length_s: 0.3 })
    const old = plate(0, 20, { stalls: [stall(3), stall(16)] })
    expect(
      joined(old, plate(15, 7, { stalls: [stall(16), stall(20)] })).stalls.map((s) => s.t),
    ).toEqual([3, 16, 20])
  })
})
