import { describe, expect, it } from 'vitest'
import { cursor, joined, type LivePlate } from './livePlate'

function plate(since: number, seconds: number, changes: Partial<LivePlate> = {}): LivePlate {
  const t = Array.from({ length: seconds }, (_, i) => since + i + 0.5)
  const column = t.map((x) => x * 10)
  return {
    state: 'running', elapsed_s: since + seconds, bin_s: 1, since, t, planned: column, users: column,
    in_flight: column, throughput: column, errors: column, p50: column, p95: column, p99: column,
    blur: column, stalls: [], events: [], pins: [],
    resources: [
      { key: 'ledger.cpu', component: 'ledger', name: 'cpu', kind: 'cpu', servers: 4, utilisation: column, waiting: null },
    ],
    ...changes,
  } // prettier-ignore
}

describe('a live plate', () => {
  it('asks for everything first, then from a little before its end', () => {
    expect(cursor(undefined)).toEqual({ after: 0, bin_s: 0 })
    expect(cursor(plate(0, 20))).toEqual({ after: 15, bin_s: 1 })
    expect(cursor(plate(0, 3))).toEqual({ after: 0, bin_s: 1 })
  })
  it('grows by what came, and takes the newer of what it has twice', () => {
    const fresh = plate(15, 7, { throughput: [1, 2, 3, 4, 5, 6, 7] })
    const grown = joined(plate(0, 20), fresh)
    expect(grown.t).toHaveLength(22)
    expect(grown.t).toEqual(plate(0, 22).t)
    expect(grown.throughput.slice(14, 17)).toEqual([145, 1, 2])
    expect(grown.resources[0]?.utilisation).toHaveLength(22)
    expect(grown.elapsed_s).toBe(22)
  })
  it('begins anew when bins have become wider', () => {
    const wider = plate(0, 4, { bin_s: 2 })
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
