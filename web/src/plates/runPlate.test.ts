import { flags } from './marks'
import { describe, expect, it } from 'vitest'
import { figuresAt, nearest, place } from './figures'
import { draw, type LevelPoint, type PlateInput } from './runPlate'
import { darkness, reach } from './strip'

const tokens = {
  paper: '#fff', card: '#fff', rule: '#ccc', ink: '#000', ink2: '#333', copper: '#a40',
  lake: '#06a', silt: '#bbb', brick: '#900', ochre: '#860', moss: '#460',
} // prettier-ignore

function level(number: number, users: number, more: Partial<LevelPoint> = {}): LevelPoint {
  return {
    number, users, start_s: (number - 1) * 10, end_s: number * 10, throughput: users / 2,
    p50_s: 0.01, p95_s: 0.05, p99_s: 0.09, in_flight: users / 10, completions: 100, errors: 0,
    utilisation: { 'ledger.cpu': users / 100 }, ...more,
  } // prettier-ignore
}

function input(changes: Partial<PlateInput> = {}): PlateInput {
  const resource = { component: 'ledger', servers: 4, waiting: null }
  return {
    axis: 'clock',
    plate: {
      bin_s: 1, t: [0.5, 1.5, 2.5], planned: [10, 10, 0], users: [10, 10, 1], in_flight: [1, 1, 1],
      throughput: [5, 6, 1], errors: [0, 0, 0], p50: [0.01, 0.02, null], p95: [0.05, 0.06, null],
      p99: [0.09, 0.1, null], blur: [0.001, 0.02, null], since: 0, stalls: [{ t: 1.2, length_s: 0.34 }],
      pins: [], events: [],
      resources: [
        { ...resource, key: 'ledger.cpu', name: 'cpu', kind: 'cpu', utilisation: [0.5, null, 0.7] },
        { ...resource, key: 'ledger.memory', name: 'memory', kind: 'memory', utilisation: [0.3, 0.3, 0.3] },
      ],
    },
    profile: { duration_s: 60, peak_users: 60, peak_rate: 0, t: [0, 60], users: [10, 10], rate: [0, 0], levels: [] },
    levels: [level(1, 20), level(2, 40), level(3, 60)],
    comfort: null, saturation: null, goals: [], flags: [], tokens,
    ...changes,
  } // prettier-ignore
}

type Series = {
  type: string
  data: unknown[]
  markArea?: { data: unknown[][] }
  markLine?: { data: unknown[] }
}
const seriesOf = (i: PlateInput) => draw(i).option.series as Series[]

describe('the plate of a run', () => {
  it('stacks load, throughput, response, errors and a strip for each resource', () => {
    const rows = draw(input()).layout.rows
    expect(rows.map((r) => r.id)).toEqual([
      'load',
      'throughput',
      'response',
      'errors',
      'blur',
      'resource:ledger.cpu',
      'resource:ledger.memory',
    ])
    rows
      .slice(1)
      .forEach((row, i) =>
        expect(row.top).toBeGreaterThan((rows[i]?.top ?? 0) + (rows[i]?.height ?? 0)),
      )
  })

  it('shows the whole planned terrain from the first second on', () => {
    expect(seriesOf(input())[0]?.data).toEqual([[0, 10], [60, 10]]) // prettier-ignore
    const x = draw(input()).option.xAxis as { max: number }[]
    expect(x.map((axis) => axis.max)).toEqual([60, 60, 60, 60, 60, 60, 60])
  })

  it('leaves unmeasured seconds of a strip empty', () => {
    const strip = seriesOf(input()).at(-2)
    expect(strip?.type).toBe('custom')
    expect(strip?.data).toEqual([[0, 1, 0, 1, 0.5], [2, 3, 0, 1, 0.7]]) // prettier-ignore
  })

  it('draws no response time of seconds without planned load', () => {
    const plate = {
      ...input().plate,
      p50: [0.01, 0.02, 9],
      p95: [0.05, 0.06, 9],
      p99: [0.09, 0.1, 9],
    }
    const fan = seriesOf(input({ plate }))
      .filter((s) => s.type === 'line')
      .slice(3)
    expect(fan.every((s) => s.data.length === 2)).toBe(true)
  })
  it('leads no line of response times across a pause', () => {
    const t = Array.from({ length: 12 }, (_, i) => i + 0.5)
    const timed = t.map((_, i) => (i < 2 || i > 9 ? 0.1 : null))
    const plate = {
      ...input().plate,
      t,
      planned: t.map(() => 9),
      p50: timed,
      p95: timed,
      p99: timed,
    }
    const fan = seriesOf(input({ plate }))
      .filter((s) => s.type === 'line')
      .slice(3)
    expect(fan.map((s) => s.data.filter((point) => (point as number[])[1] == null).length)).toEqual(
      [1, 1, 1, 1],
    )
  })
  it('names no flag upon another', () => {
    const made = [10, 11, 40].map((t) => ({ t, text: `at ${t}` }))
    const drawn = input({ flags: made })
    const shown = flags({ ...drawn, plate: { ...drawn.plate, t: [0, 60] } }).data
    expect(shown.map((flag) => flag.label.show)).toEqual([true, false, true])
  })
  it('draws every level against load, and no second without planned load', () => {
    const series = seriesOf(input({ axis: 'load' }))
    expect(series.find((s) => s.type === 'line')?.data).toEqual([[20, 2], [40, 4], [60, 6]]) // prettier-ignore
    expect(series.find((s) => s.type === 'scatter')?.data).toHaveLength(2)
    expect(series.at(-2)?.data).toHaveLength(3)
  })

  it('names three bands when the comfort limit lies below saturation', () => {
    const comfort = { value: 30, low: 28, high: 33 }
    const saturation = { value: 50, low: 47, high: 52 }
    const bands = seriesOf(input({ axis: 'load', comfort, saturation }))[0]?.markArea?.data as {
      name: string
    }[][]
    expect(bands.map((b) => b[0]?.name)).toEqual(['○ comfortable', '◐ strained', '● saturated'])
  })

  it('has no strained band when objectives hold beyond saturation', () => {
    const comfort = { value: 55, low: 53, high: 58 }
    const saturation = { value: 50, low: 47, high: 52 }
    const bands = seriesOf(input({ axis: 'load', comfort, saturation }))[0]?.markArea?.data as {
      name: string
    }[][]
    expect(bands.map((b) => b[0]?.name)).toEqual(['○ comfortable', '● saturated'])
  })

  it('rules the objectives and flags the markers', () => {
    const series = seriesOf(
      input({ goals: [{ label: 'p95', limit: 0.2 }], flags: [{ t: 50, text: 'draining' }] }),
    )
    expect(series[0]?.markLine?.data).toEqual([
      { name: 'draining', xAxis: 50, label: { show: true } },
    ])
    const rules = series.flatMap((s) => s.markLine?.data ?? [])
    expect(rules).toContainEqual(expect.objectContaining({ name: 'p95', yAxis: 0.2 }))
  })
})

describe('figures at the cursor', () => {
  it('are those of the nearest second, or of the last', () => {
    const at = (x: number | null) => new Map(figuresAt(input(), x).map((r) => [r.id, r.lines]))
    expect(at(1.4).get('throughput')).toEqual(['6.00 req/s'])
    expect(at(null).get('load')).toEqual(['10 of 10 users'])
    expect(at(1.4).get('resource:ledger.cpu')).toEqual(['–'])
  })

  it('are those of the nearest level on the load axis', () => {
    const found = figuresAt(input({ axis: 'load' }), 45)
    expect(found[0]?.lines).toEqual(['4.00 of 40 users'])
    expect(figuresAt(input({ axis: 'load', levels: [] }), 45)).toEqual([])
  })
})

describe('places and darkness', () => {
  it('finds where a stretch of load was on the clock', () => {
    expect(place(input(), 35, 45)).toEqual([10, 20])
    expect(place(input(), 45, 48)).toEqual([20, 30])
    expect(place(input(), 90, 95)).toBeNull()
    expect(place(input({ axis: 'load' }), 35, 45)).toEqual([35, 45])
  })

  it('reaches half-way to its neighbours and stays on the axis', () => {
    expect([0, 1, 2].map((k) => reach([20, 40, 60], k, 62))).toEqual([[10, 30], [30, 50], [50, 62]]) // prettier-ignore
    expect(reach([20], 0, 30)).toEqual([20, 20])
  })

  it('grows darker with utilisation, within bounds', () => {
    expect(darkness(0.95)).toBeGreaterThan(darkness(0.8))
    expect(darkness(-1)).toBe(darkness(0))
    expect(darkness(2)).toBe(darkness(1))
  })

  it('takes the nearest', () => {
    expect(nearest([1, null, 5], 4)).toBe(2)
  })
})

describe('the blur of measuring', () => {
  it('darkens with the share of users, and is blank where no load was planned', () => {
    const plate = { ...input().plate, blur: [0.001, 0.05, 0.9] }
    const strip = seriesOf(input({ plate })).at(-4)
    expect(strip?.type).toBe('custom')
    expect(strip?.data).toEqual([[0, 1, 0, 1, 0.02], [1, 2, 0, 1, 1]]) // prettier-ignore
  })
  it('marks stalls, and tells the longest beside the row', () => {
    const stalls = seriesOf(input()).at(-3)
    expect(stalls?.type).toBe('scatter')
    expect(stalls?.data).toEqual([[1.2 + 0.17, 0.5]])
    const row = figuresAt(input(), 1.4).find((r) => r.id === 'blur')
    expect(row?.lines).toEqual(['2.00 %, still 340 ms'])
  })
})
