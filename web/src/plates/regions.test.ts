import { describe, expect, it } from 'vitest'
import { AS_IT_IS } from './arrangement'
import {
  commonPlate,
  mapNodes,
  problemOf,
  readThresholds,
  regionPlates,
  regionStands,
  type Thresholds,
} from './regions'
import { draw } from './runPlate'
import type { PlateInput } from './view'

const tokens = {
  paper: '#fff', card: '#fff', rule: '#ccc', ink: '#000', ink2: '#333', copper: '#a40',
  lake: '#06a', silt: '#bbb', brick: '#900', ochre: '#860', moss: '#460',
} // prettier-ignore

const SECONDS = 60
const t = Array.from({ length: SECONDS }, (_, i) => i + 0.5)
const column = (value: number | null) => t.map(() => value)
const region = (id: string, name: string, p95: number, throughput: number, errors = 0) => ({
  id, name, throughput: column(throughput), errors: column(errors), p50: column(p95 / 2), p95: column(p95), p99: column(2 * p95),
}) // prettier-ignore

function input(changes: Partial<PlateInput> = {}): PlateInput {
  const group = (name: string, of: string, users: number) => ({
    name, region: of, ordered: column(users), present: column(users),
  }) // prettier-ignore
  const resource = {
    component: 'ledger',
    name: 'cpu',
    kind: 'cpu',
    waiting: null,
    instance_count: 1,
    instances: [],
  }
  return {
    axis: 'clock', window: null, prospect: null, arrangement: AS_IT_IS, levels: [], comfort: null, saturation: null,
    plate: {
      same: false, first: 0, bin_s: 1, t, start: t.map((x) => x - 0.5), planned: column(70), users: column(70), in_flight: column(3), throughput: column(35),
      errors: column(0), mean: column(0.15), p50: column(0.1), p95: column(0.2), p99: column(0.4), blur: column(0), sequence: 3, whole: true, of: 'step:0', parts: [],
      groups: [group('locals', 'north', 40), group('crew', 'north', 10), group('guests', 'south', 20)],
      regions: [region('region:0', 'north', 0.2, 30), region('region:1', 'south', 0.9, 5, 5)],
      selections: [], stalls: [], pins: [], events: [], error_kinds: [], served: [], journeys: column(4), received: column(9000), requests: column(36),
      resources: [{ ...resource, key: 'ledger.cpu', capacity: column(4), utilisation: column(0.5) }],
    },
    profile: { axis: { kind: 'users', name: 'Users', unit: 'users', peak: 70 }, at_most: false, endless: false, duration_s: 60, peak_users: 70, peak_rate: 0, t: [0, 60], users: [70, 70], rate: [0, 0], levels: [] },
    goals: [{ label: 'p95 under 1 s', limit: 1, of: 'all' }, { label: 'p95 under 2 s', limit: 2, of: 'step:0' }],
    flags: [], tokens,
    ...changes,
  } // prettier-ignore
}
const THRESHOLDS: Thresholds = { slow: [0.8, 1.5], failing: [0.01, 0.05] }

describe('regions side by side', () => {
  it('draws the plate of each of its own people, with the same scales in all', () => {
    const [north, south] = regionPlates(input())
    expect([north?.name, south?.name]).toEqual(['north', 'south'])
    expect(north?.input.plate.users[0]).toBe(50)
    expect(south?.input.plate.planned[0]).toBe(20)
    expect(south?.input.plate.p95[0]).toBe(0.9)
    const drawn = [north, south].map((one) => draw(one!.input))
    expect(drawn[0]?.rows.map((row) => row.id)).toEqual([
      'load',
      'throughput',
      'response',
      'errors',
    ])
    const highest = drawn.map(({ option }) =>
      (option.yAxis as { max?: number }[]).map((y) => y.max),
    )
    expect(highest[0]).toEqual([60, 40, 2, 6])
    expect(highest[1]).toEqual(highest[0])
    const shownGoals = south?.input.goals.map((goal) => [goal.label, goal.of])
    expect(shownGoals).toEqual([['p95 under 1 s', 'region:1']])
  })

  it('leaves out what is not counted by region against load', () => {
    const [north] = regionPlates(input({ axis: 'load' }))
    const { rows, view } = draw(north!.input)
    expect(rows.map((row) => row.id)).toEqual(['throughput', 'response', 'errors'])
    expect(view.x.max).toBe(52)
  })

  it('keeps rows hidden that were hidden, and shows apart what all have in common', () => {
    const arrangement = { ...AS_IT_IS, hidden: ['errors'] }
    const [north] = regionPlates(input({ arrangement }))
    expect(draw(north!.input).rows.map((row) => row.id)).toEqual(['load', 'throughput', 'response'])
    const common = draw(commonPlate(input({ arrangement })))
    expect(common.rows.map((row) => row.id)).toEqual(['received', 'blur', 'resource:ledger.cpu'])
  })

  it('draws arrivals by what is ordered of them', () => {
    const given = input()
    given.profile.axis = { kind: 'arrivals', name: 'Arrivals', unit: 'arrivals/s', peak: 7 }
    given.plate.groups = given.plate.groups.map((group) => ({ ...group, ordered: column(2) }))
    const [north] = regionPlates(given)
    expect(draw(north!.input).view.load[0]).toBe(4)
    expect(north?.input.plate.planned[0]).toBe(50)
  })
})

describe('the map of regions', () => {
  it('tells how each stands by the last half minute, or around a moment', () => {
    const given = input()
    const stands = regionStands(regionPlates(given), null, THRESHOLDS)
    expect(stands.map((one) => one.word)).toEqual(['within', 'beyond'])
    expect(stands[1]).toMatchObject({ users: 20, throughput: 5, p95: 0.9, failing: 0.5 })
    const south = given.plate.regions[1]!
    south.errors = t.map((x) => (x > 30 ? 5 : 0))
    const early = regionStands(regionPlates(given), 10, THRESHOLDS)
    expect(early.map((one) => one.word)).toEqual(['within', 'near'])
  })

  it('says nobody where nobody is and unknown where nothing was told', () => {
    const given = input()
    const nothing = { throughput: column(null), errors: column(null), p50: column(null), p95: column(null), p99: column(null) } // prettier-ignore
    given.plate.regions = given.plate.regions.map((one) => ({ ...one, ...nothing }))
    given.plate.groups[2] = { name: 'guests', region: 'south', ordered: column(0), present: column(0) } // prettier-ignore
    const plates = regionPlates(given)
    expect(regionStands(plates, 30, THRESHOLDS).map((one) => one.word)).toEqual([
      'unknown',
      'nobody',
    ])
  })

  it('draws more people larger and more done thicker, all within its frame', () => {
    const stands = regionStands(regionPlates(input()), null, THRESHOLDS)
    const [north, south] = mapNodes(stands, 620, 260)
    expect(north!.radius).toBeGreaterThan(south!.radius)
    expect(north!.width).toBeGreaterThan(south!.width)
    const many = mapNodes(
      Array.from({ length: 12 }, () => stands[0]!),
      620,
      380,
    )
    for (const { x, y } of many) {
      expect(x).toBeGreaterThanOrEqual(100)
      expect(x).toBeLessThanOrEqual(520)
      expect(y).toBeGreaterThan(0)
      expect(y).toBeLessThan(340)
    }
  })

  it('has thresholds of the strictest objective until the planner gives others that make sense', () => {
    const { goals } = input()
    expect(readThresholds(null, goals)).toEqual({ slow: [0.8, 1], failing: [0.01, 0.05] })
    expect(readThresholds('{"slow": [3, 1], "failing": [0.1, 0.2]}', goals).slow).toEqual([0.8, 1])
    expect(readThresholds('nonsense', []).slow).toEqual([0.8, 1])
    expect(readThresholds(JSON.stringify(THRESHOLDS), goals)).toEqual(THRESHOLDS)
    expect(problemOf({ slow: [2, 1], failing: [0.01, 0.05] })).toMatch(/must not be above/)
    expect(problemOf({ slow: [0, 1], failing: [0.01, 0.05] })).toMatch(/above 0/)
    expect(problemOf({ slow: [0.5, 1], failing: [0.01, 2] })).toMatch(/100 %/)
    expect(problemOf({ slow: [NaN, 1], failing: [0.01, 0.5] })).toMatch(/above 0/)
    expect(problemOf(THRESHOLDS)).toBeNull()
  })
})
