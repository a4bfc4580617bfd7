import { AS_IT_IS } from './arrangement'
import { flags } from './marks'
import { describe, expect, it } from 'vitest'
import { painted } from './painted'
import { draw } from './runPlate'
import { placeAt, stretchOf, viewOf, type LevelPoint, type PlateInput, type Point } from './view'
import { darkness, reach } from './strip'

const tokens = {
  paper: '#fff', card: '#fff', rule: '#ccc', ink: '#000', ink2: '#333', copper: '#a40',
  lake: '#06a', silt: '#bbb', brick: '#900', ochre: '#860', moss: '#460',
} // prettier-ignore

const USERS = { kind: 'users' as const, name: 'Users', unit: 'users', peak: 60 }

function level(number: number, users: number, more: Partial<LevelPoint> = {}): LevelPoint {
  return {
    number, present: users, load: { kind: 'users', ordered: users, delivered: users, blind: 0 }, start_s: (number - 1) * 10, end_s: number * 10, throughput: users / 2,
    p50_s: 0.01, p95_s: 0.05, p99_s: 0.09, in_flight: users / 10, completions: 100, errors: 0,
    utilisation: { 'ledger.cpu': users / 100 }, ...more,
  } // prettier-ignore
}

function input(changes: Partial<PlateInput> = {}): PlateInput {
  const resource = {
    component: 'ledger',
    capacity: [4, 4, 4],
    waiting: null,
    instance_count: 1,
    instances: [],
  }
  return {
    axis: 'clock',
    window: null,
    prospect: null,
    arrangement: AS_IT_IS,
    plate: {
      same: false, first: 0, bin_s: 1, t: [0.5, 1.5, 2.5], planned: [10, 10, 0], users: [10, 10, 1], in_flight: [1, 1, 1],
      throughput: [5, 6, 1], errors: [0, 0, 0], mean: [0.02, 0.03, null], p50: [0.01, 0.02, null], p95: [0.05, 0.06, null],
      p99: [0.09, 0.1, null], blur: [0.001, 0.02, null], sequence: 3, whole: true, start: [0, 1, 2], of: 'step:0', groups: [], parts: [], regions: [], error_kinds: [], served: [], journeys: [null, null, null], received: [null, null, null], requests: [null, null, null],
      selections: [{ id: 'all', name: 'All steps' }, { id: 'step:0', name: 'Buy' }, { id: 'step:1', name: 'Look' }], stalls: [{ t: 1.2, length_s: 0.34 }],
      pins: [], events: [],
      resources: [
        { ...resource, key: 'ledger.cpu', name: 'cpu', kind: 'cpu', utilisation: [0.5, null, 0.7] },
        { ...resource, key: 'ledger.memory', name: 'memory', kind: 'memory', utilisation: [0.3, 0.3, 0.3] },
      ],
    },
    profile: { axis: USERS, at_most: false, endless: false, duration_s: 60, peak_users: 60, peak_rate: 0, t: [0, 60], users: [10, 10], rate: [0, 0], levels: [] },
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
const dark = (share: number) => Number(darkness(share).toFixed(6))
const seriesOf = (i: PlateInput) => draw(i).option.series as Series[]
const rowOf = (i: PlateInput, id: string) => {
  const row = draw(i).rows.find((one) => one.id === id)
  if (!row) throw new Error(`no row ${id}`)
  return { name: row.name, series: row.series(0) as Series[], figures: row.figures }
}
const figuresAt = (i: PlateInput, id: string, x: number | null) => {
  const place = placeAt(viewOf(i), x)
  return place ? rowOf(i, id).figures(place) : []
}

describe('rows that tell of several things', () => {
  const failing = (kinds: [string, number][]) => {
    const { plate } = input()
    const error_kinds = kinds.map(([kind, n]) => ({ kind, errors: [n, 0, null] }))
    const errors = [kinds.reduce((sum, [, n]) => sum + n, 0), 0, 0]
    return input({ plate: { ...plate, error_kinds, errors } })
  }

  it('stacks errors by kind, the most frequent first, and names them', () => {
    const two = failing([
      ['time limit', 1],
      ['status 503', 3],
    ])
    const { series } = rowOf(two, 'errors')
    expect(series).toHaveLength(2)
    expect(series.map((one) => (one.data as [number, number][])[0]?.[1])).toEqual([3, 1])
    expect(figuresAt(two, 'errors', 0.5)).toEqual([
      '4.00 errors/s',
      '3.00 status 503',
      '1.00 time limit',
    ])
    expect(rowOf(failing([['time limit', 1]]), 'errors').series).toHaveLength(1)
    const many = failing(
      Array.from({ length: 7 }, (_, i): [string, number] => [`status 50${i}`, 9 - i]),
    )
    expect(figuresAt(many, 'errors', 0.5).at(-1)).toBe('12.0 of 3 other kinds')
    expect(rowOf(many, 'errors').series).toHaveLength(5)
  })

  it('draws what servers tell of their time beside what people wait, unless the row is split', () => {
    const { plate } = input()
    const served = [{ name: 'ledger', mean_s: [0.004, 0.005, null] }]
    const told = input({ plate: { ...plate, served } })
    expect(figuresAt(told, 'response', 0.5).slice(-2)).toEqual([
      '╌╌ 20.0 ms mean',
      '┈┈ 4.00 ms in ledger',
    ])
    const lines = rowOf(told, 'response').series.length
    expect(lines).toBe(rowOf(input(), 'response').series.length + 2)
    const parts = [{ id: 'step:0', name: 'Buy', throughput: [1, 1, 1], p95: [0.1, 0.1, null] }]
    const split = input({ plate: { ...plate, served, parts } })
    expect(rowOf(split, 'response').series).toHaveLength(1)
  })

  it('draws how surely a level is known, and the mean people waited there', () => {
    const sure: Partial<LevelPoint> = {
      throughput_se: 2,
      response_s: 0.03,
      intervals: { p95: [0.04, 0.07] },
    }
    const levels = [level(1, 10), level(2, 20, { ...sure, start_s: 0, end_s: 2 })]
    const told = input({ axis: 'load', levels, plate: { ...input().plate, of: 'all' } })
    const strokes = (id: string) =>
      rowOf(told, id).series.filter((one) =>
        one.data?.some((point) => (point as Point)[1] === null),
      )
    const [rate] = strokes('throughput')
    const at = levels[1]?.throughput ?? 0
    expect(rate?.data).toEqual([
      [20, at - 3.29],
      [20, at + 3.29],
      [20, null],
    ])
    expect(strokes('response')[0]?.data).toEqual([
      [20, 0.04],
      [20, 0.07],
      [20, null],
    ])
    const served = [{ name: 'ledger', mean_s: [0.004, 0.005, null] }]
    const both = { ...told, plate: { ...told.plate, served } }
    expect(figuresAt(both, 'response', 20)).toContain('╌╌ 30.0 ms mean')
  })

  it('has a row of what came in for who asks for it', () => {
    const { plate } = input()
    const shown = { ...AS_IT_IS, hidden: [] }
    const received = { ...plate, received: [12_000, 9_000, 0], requests: [6, 5, 0] }
    const told = input({ arrangement: shown, plate: received })
    expect(figuresAt(told, 'received', 0.5)).toEqual(['12.0 kB/s', '6.00 requests/s'])
    expect(draw(input({ plate: received })).rows.map((row) => row.id)).not.toContain('received')
  })
})

describe('the plate of a run', () => {
  it('stacks load, throughput, response, errors and a strip for each resource', () => {
    const { rows } = draw(input())
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
    expect(painted(strip)).toEqual([[0, 1, 0, 1, dark(0.5)], [2, 3, 0, 1, dark(0.7)]]) // prettier-ignore
  })

  it('tells journeys done beside steps, where they were counted', () => {
    expect(figuresAt(input(), 'throughput', 0.5)).toEqual(['5.00 steps/s'])
    const counted = input()
    counted.plate.journeys = [1.5, 2, 0]
    expect(figuresAt(counted, 'throughput', 0.5)).toEqual(['5.00 steps/s', '1.50 journeys/s'])
  })
  it('shows the instances of a resource one below the other', () => {
    const split = input()
    const values = { a: [0.9, 0.9, 0.9], b: [0.1, null, 0.1] }
    const instances = Object.entries(values).map(([label, values]) => ({ label, values }))
    split.plate.resources = split.plate.resources.map((one) => ({ ...one, instances }))
    const row = rowOf(split, 'resource:ledger.cpu')
    const cells = painted(row.series[0])
    expect(cells.filter(([, , low = 0]) => low >= 0.5).map((cell) => cell[4])).toEqual(
      [0.9, 0.9, 0.9].map(dark),
    )
    expect(cells.filter(([, , low = 0]) => low < 0.5).map((cell) => cell[4])).toEqual(
      [0.1, 0.1].map(dark),
    )
    expect(figuresAt(split, 'resource:ledger.cpu', 0.5)).toEqual([
      '90 % · 10 %',
      '90 % a',
      '10 % b',
    ])
  })
  it('draws another measure over a row, on a scale of its own', () => {
    const over = { throughput: 'resource:ledger.cpu', response: 'response', load: 'gone' }
    const given = input({ arrangement: { ...AS_IT_IS, over } })
    const { option, rows } = draw(given)
    const scales = option.yAxis as { gridIndex: number; max?: number }[]
    expect(scales).toHaveLength(rows.length + 1)
    expect(scales.at(-1)).toMatchObject({ gridIndex: 1, max: 1, show: false })
    const line = seriesOf(given).at(-1) as unknown as { yAxisIndex: number; xAxisIndex: number }
    expect(line).toMatchObject({ yAxisIndex: rows.length, xAxisIndex: 1 })
    expect(seriesOf(given).at(-1)?.data).toEqual([[0.5, 0.5], [1.5, null], [2.5, 0.7]]) // prettier-ignore
    expect(figuresAt(given, 'throughput', 0.5)).toEqual(['5.00 steps/s', '┈┈ 50 % ledger CPU'])
    expect(figuresAt(given, 'load', 0.5)).toHaveLength(1)
    expect(draw(input()).rows.every((row) => row.over === undefined)).toBe(true)
  })

  it('draws no response time of seconds without planned load', () => {
    const plate = {
      ...input().plate,
      p50: [0.01, 0.02, 9],
      p95: [0.05, 0.06, 9],
      p99: [0.09, 0.1, 9],
    }
    const fan = rowOf(input({ plate }), 'response').series
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
    const fan = rowOf(input({ plate }), 'response').series
    expect(fan.map((s) => s.data.filter((point) => (point as number[])[1] == null).length)).toEqual(
      [1, 1, 1, 1],
    )
  })
  it('names no flag upon another', () => {
    const made = [10, 11, 40].map((t) => ({ t, text: `at ${t}` }))
    const shown = flags({ ...input({ flags: made }), x: { min: 0, max: 60 } }).data
    expect(shown.map((flag) => flag.label.show)).toEqual([true, false, true])
    expect(flags({ ...input({ flags: made }), x: { min: 20, max: 60 } }).data).toHaveLength(1)
  })
  it('draws what would come of a wish dashed, on to the end of the axis where it has none', () => {
    const { profile } = input()
    const prospect = { ...profile, endless: true, t: [0, 30], users: [10, 40] }
    const drawn = seriesOf(input({ prospect })).map((s) => s.data)
    expect(drawn).toContainEqual([[0, 10], [30, 40], [60, 40]]) // prettier-ignore
  })
  it('shows where sentences are about before there are findings', () => {
    const profile = { ...input().profile, levels: [
      { start_s: 0, end_s: 30, users: 20, moving: false }, { start_s: 30, end_s: 60, users: 40, moving: false },
    ] } // prettier-ignore
    expect(stretchOf({ axis: 'clock', levels: [], profile }, 40, 40)).toEqual([30, 60])
    expect(stretchOf({ axis: 'clock', levels: [], profile }, 25, 25)).toEqual([30, 60])
  })
  it('draws every level against load, and no second without planned load', () => {
    const series = seriesOf(input({ axis: 'load' }))
    expect(series.find((s) => s.type === 'line')?.data).toEqual([[20, 2], [40, 4], [60, 6]]) // prettier-ignore
    expect(series.find((s) => s.type === 'scatter')?.data).toHaveLength(2)
    expect(painted(series.at(-2))).toHaveLength(3)
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
      input({
        goals: [{ label: 'p95', limit: 0.2, of: 'step:0' }],
        flags: [{ t: 50, text: 'draining' }],
      }),
    )
    expect(series[0]?.markLine?.data).toEqual([
      { name: 'draining', xAxis: 50, label: { show: true } },
    ])
    const rules = series.flatMap((s) => s.markLine?.data ?? [])
    expect(rules).toContainEqual(expect.objectContaining({ name: 'p95', yAxis: 0.2 }))
  })
})

describe('a window of the clock', () => {
  it('is what the axis shows, whatever there is besides', () => {
    expect(viewOf(input()).x).toEqual({ min: 0, max: 60 })
    expect(viewOf(input({ window: { from: 20, until: 45 } })).x).toEqual({ min: 20, max: 45 })
    expect(viewOf(input({ window: { from: 20, until: 45 }, axis: 'load' })).x.min).toBe(0)
  })
})

describe('figures at the cursor', () => {
  it('are those of the nearest second, or of the last that load was wanted in', () => {
    expect(figuresAt(input(), 'throughput', 1.4)).toEqual(['6.00 steps/s'])
    expect(figuresAt(input(), 'load', null)).toEqual(['10 of 10 users'])
    expect(figuresAt(input(), 'resource:ledger.cpu', 1.4)).toEqual(['–'])
  })

  it('tell arrivals where everybody comes by rate, and leave out who only finishes', () => {
    const i = input()
    const axis = {
      kind: 'arrivals' as const,
      name: 'Arrivals per second',
      unit: 'arrivals/s',
      peak: 8,
    }
    const groups = [
      { name: 'callers', region: 'anywhere', ordered: [2.5, 8, 0], present: [10, 10, 1] },
    ]
    const plate = { ...i.plate, groups, planned: [10, 10, 1] }
    const arriving = { ...i, levels: [], profile: { ...i.profile, axis }, plate }
    expect(figuresAt(arriving, 'load', 0.5)).toEqual(['10 users there', '2.50 arrivals/s ordered'])
    const view = viewOf({ ...arriving, axis: 'load' })
    expect(view.loaded).toEqual([true, true, false])
    expect(view.places.map((place) => place.x)).toEqual([2.5, 8])
    expect(view.x.max).toBe(9)
  })

  it('are those of the nearest level on the load axis', () => {
    expect(figuresAt(input({ axis: 'load' }), 'load', 45)).toEqual(['4.00 of 40 users'])
  })

  it('are those of the seconds of a like load while there are no levels', () => {
    const live = input({ axis: 'load', levels: [] })
    expect(figuresAt(live, 'throughput', 9)).toEqual(['5.50 steps/s'])
    expect(figuresAt(live, 'response', 9)).toEqual(['p95 50.0–60.0 ms'])
    expect(figuresAt(live, 'resource:ledger.cpu', 9)).toEqual(['50 %'])
    expect(painted(rowOf(live, 'resource:ledger.cpu').series[0])).toHaveLength(1)
    expect(rowOf(live, 'response').series.every((s) => s.data.length === 2)).toBe(true)
  })
})

describe('the response row', () => {
  const goals = [
    { label: 'buy', limit: 0.2, of: 'step:0' },
    { label: 'all', limit: 0.5, of: 'all' },
  ]
  const named = (i: PlateInput) =>
    rowOf(i, 'response').series.flatMap((s) =>
      (s.markLine?.data ?? []).map((one) => (one as { name: string }).name),
    )

  it('names the step it shows, and has only its objectives', () => {
    expect(rowOf(input(), 'response').name).toBe('Response: Buy')
    expect(named(input({ goals }))).toEqual(['buy'])
    const all = { ...input().plate, of: 'all' }
    expect(rowOf(input({ plate: all }), 'response').name).toBe('Response: all steps')
    expect(named(input({ goals, plate: all }))).toEqual(['all'])
  })

  it('shows the percentiles of its step at each level', () => {
    const steps = [{ step: 0, p50_s: 0.2, p95_s: 0.3, p99_s: 0.4 }]
    const i = input({ axis: 'load', levels: [level(1, 20, { steps })] })
    expect(figuresAt(i, 'response', 20)).toEqual(['p50 200 ms', 'p95 300 ms', 'p99 400 ms'])
    const all = { ...i, plate: { ...i.plate, of: 'all' } }
    expect(figuresAt(all, 'response', 20)[0]).toBe('p50 10.0 ms')
  })

  it('is split into the busiest parts, told apart by their dashes', () => {
    const parts = Array.from({ length: 8 }, (_, k) => ({
      id: `step:${k}`,
      name: `s${k}`,
      throughput: [k, k, 0],
      p95: [k / 10, k / 10, 9],
    }))
    const i = input({ plate: { ...input().plate, parts } })
    const { name, series } = rowOf(i, 'response')
    expect(name).toBe('Response, p95')
    expect(series.map((s) => s.data[0])).toEqual([7, 6, 5, 4, 3, 2].map((k) => [0.5, k / 10]))
    expect(series[0]?.data[2]).toEqual([2.5, null])
    expect(figuresAt(i, 'throughput', 0.5)[0]).toBe('── 7.00 s7')
    const steps = [{ step: 7, p50_s: 0.2, p95_s: 0.3, p99_s: 0.4 }]
    const onLoad = { ...i, axis: 'load' as const, levels: [level(1, 20, { steps })] }
    expect(rowOf(onLoad, 'response').series[0]?.data).toEqual([[20, 0.3]])
    expect(figuresAt(onLoad, 'response', 20)[0]).toBe('── 300 ms s7')
  })
})

describe('draining', () => {
  it('is marked from the last second that load was wanted in', () => {
    const [load] = rowOf(input(), 'load').series
    expect(load?.markArea?.data).toEqual([[{ xAxis: 2 }, { xAxis: 3 }]])
    const wanted = { ...input().plate, planned: [10, 10, 10] }
    expect(rowOf(input({ plate: wanted }), 'load').series[0]?.markArea).toBeUndefined()
    const aside = [{ from_s: 1, until_s: 2 }]
    expect(rowOf(input({ plate: wanted, aside }), 'load').series[0]?.markArea?.data).toEqual([
      [{ xAxis: 1, name: 'left out' }, { xAxis: 2 }],
    ])
  })
})

describe('places and darkness', () => {
  it('finds where a stretch of load was on the clock', () => {
    expect(stretchOf(input(), 35, 45)).toEqual([10, 20])
    expect(stretchOf(input(), 45, 48)).toEqual([20, 30])
    expect(stretchOf(input(), 90, 95)).toBeNull()
    expect(stretchOf(input({ axis: 'load' }), 35, 45)).toEqual([35, 45])
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
})

describe('the blur of measuring', () => {
  it('darkens with the share of users, and is blank where no load was planned', () => {
    const plate = { ...input().plate, blur: [0.001, 0.05, 0.9] }
    const strip = rowOf(input({ plate }), 'blur').series[0]
    expect(strip?.type).toBe('custom')
    expect(painted(strip)).toEqual([[0, 1, 0, 1, dark(0.02)], [1, 2, 0, 1, dark(1)]]) // prettier-ignore
  })
  it('marks stalls, and tells the longest beside the row', () => {
    const stalls = rowOf(input(), 'blur').series[1]
    expect(stalls?.type).toBe('scatter')
    expect(stalls?.data).toEqual([[1.2 + 0.17, 0.5]])
    expect(figuresAt(input(), 'blur', 1.4)).toEqual(['2.00 %, still 340 ms'])
  })
})
