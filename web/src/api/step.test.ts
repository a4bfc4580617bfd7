import { describe, expect, it } from 'vitest'
import { lacking, partsOf, sentencesOf, type StepAtLevel, type StepPage } from './step'

const level = (number: number, waiting: number, holds: boolean | null, more = {}): StepAtLevel => ({
  level: `Level ${number}, ${number * 100} users`,
  number,
  from_s: 0,
  until_s: 30,
  load: number * 100,
  count: 10,
  errors: 0,
  mean_s: waiting,
  p50_s: waiting,
  p95_s: waiting,
  p99_s: waiting,
  phases: [
    { phase: 'lookup', mean_s: 0 },
    { phase: 'waiting', mean_s: waiting },
    { phase: 'receiving', mean_s: 0.1 },
  ],
  servers: [],
  components: [],
  goals: [{ value_s: waiting, holds }],
  ...more,
})
const page = (
  levels: StepAtLevel[],
  fails_from: number | null,
  missed: number[] = [],
): StepPage => ({
  id: 'step:1',
  name: 'Buy',
  journey: 'Shop',
  axis: 'users',
  levels,
  goals: [{ percent: 95, limit_s: 0.5, fails_from, missed }],
})

describe('what is said of a step', () => {
  const three = [level(1, 0.1, true), level(2, 0.6, false), level(3, 0.9, false)]
  it('says from where on it failed for good, and what its time is', () => {
    const [goal, time] = sentencesOf(page(three, 1))
    expect(goal).toBe(
      'From level 2, 200 users on, 95 % within 500 ms was missed for good: at every load that was tried.',
    )
    expect(time).toBe(
      'At level 3, 300 users, 90 % of its mean of 1.00 s is waiting for the first byte, 900 ms where it was 100 ms at level 1, 100 users.',
    )
  })
  it('says in which component most of it was spent, by how many traces, and how that grew', () => {
    const through = (ledger: number) => ({
      components: [
        { name: 'ledger', mean_s: ledger, low_s: ledger * 0.9, high_s: ledger * 1.1, traced: 40 },
        { name: '', mean_s: 0.1, low_s: null, high_s: null, traced: 40 },
      ],
    })
    const levels = [level(1, 0.1, true, through(0.1)), level(2, 0.6, true, through(0.4))]
    expect(sentencesOf(page(levels, null)).at(-1)).toBe(
      'By 40 traces at level 2, 200 users, 80 % (72 % to 88 %) of its main request is spent in ledger itself, 400 ms where it was 100 ms at level 1, 100 users.',
    )
  })
  it('does not call the highest level alone for good', () => {
    const told = sentencesOf(page([level(1, 0.1, true), level(2, 0.9, false)], 1))[0]
    expect(told).toContain('whether for good, a higher one would tell')
  })
  it('tells of levels that missed it below those that kept it', () => {
    const told = sentencesOf(page([level(1, 0.9, false), level(2, 0.1, true)], null, [0]))[0]
    expect(told).toBe(
      '95 % within 500 ms was kept at the highest level it is known at. It was missed at level 1 too, and kept again above.',
    )
  })
  it('claims nothing of what is not known', () => {
    const unknown = page([level(1, 0.1, null, { phases: [] })], null)
    expect(sentencesOf(unknown)).toEqual([
      'Whether 95 % within 500 ms was kept is not known at any level.',
    ])
    expect(lacking(unknown)).toContain('There are no single requests of this run')
    expect(lacking(page([], null))).toBe('No level was held long enough to tell of.')
  })
  it('names the server that told of most', () => {
    const servers = [
      { name: 'gateway', mean_s: 0.01 },
      { name: 'ledger', mean_s: 0.8 },
    ]
    const told = sentencesOf(page([level(1, 0.1, true), level(2, 0.9, false, { servers })], 1))[1]
    expect(told).toContain('Of the servers that tell, ledger took most: 800 ms.')
  })
})

it('leaves out what took no time', () => {
  expect(partsOf(level(1, 0.2, true)).map((part) => part.phase)).toEqual(['waiting', 'receiving'])
})
