import { describe, expect, it } from 'vitest'
import { arranged, type StepLine } from './stepTable'
import { momentOf } from './moments'

function line(id: string, name: string, more: Partial<StepLine> = {}): StepLine {
  return {
    id, name, kind: id.split(':')[0] ?? '', under: '', count: 1, rate: 1, errors: 0, error_share: 0, mean_s: 0.1, p50_s: 0.1,
    p95_s: 0.1, p99_s: 0.1, least_s: 0.1, most_s: 0.1, deviation_s: 0, received: 0, goals: [], trend: [], ...more,
  } // prettier-ignore
}
const LINES = [
  line('all', 'All steps'),
  line('journey:0', 'Check departures'),
  line('journey:1', 'Buy a ticket'),
  line('step:0', 'Home page', { under: 'journey:0', p95_s: 0.2 }),
  line('step:1', 'Pay', { under: 'journey:1', p95_s: null }),
  line('step:2', 'Activate', { under: 'journey:1', p95_s: 0.9 }),
]
const AS_IS = { sought: '', by: 'name', falling: false, folded: new Set<string>() } as const
const names = (how: Partial<Parameters<typeof arranged>[1]>) =>
  arranged(LINES, { ...AS_IS, ...how }).map((one) => one.name)

describe('the table of steps', () => {
  it('has steps below their journeys, in the order of the plan', () => {
    expect(names({})).toEqual([
      'All steps', 'Check departures', 'Home page', 'Buy a ticket', 'Pay', 'Activate',
    ]) // prettier-ignore
  })
  it('folds a journey', () => {
    expect(names({ folded: new Set(['journey:1']) })).not.toContain('Pay')
  })
  it('sorts steps by a figure, what is unknown last either way', () => {
    expect(names({ by: 'p95_s', falling: true })).toEqual([
      'All steps',
      'Activate',
      'Home page',
      'Pay',
    ])
    expect(names({ by: 'p95_s' })).toEqual(['All steps', 'Home page', 'Activate', 'Pay'])
  })
  it('finds steps, and all of a journey that is sought', () => {
    expect(names({ sought: 'pay', folded: new Set(['journey:1']) })).toEqual([
      'Buy a ticket',
      'Pay',
    ])
    expect(names({ sought: 'ticket' })).toEqual(['Buy a ticket', 'Pay', 'Activate'])
    expect(names({ sought: 'nothing' })).toEqual([])
  })
})

describe('a moment of a run', () => {
  it.each([
    ['2:30', 150],
    ['1:02:30', 3750],
    ['90', 90],
    ['12.5 s', 12.5],
    ['soon', null],
    ['', null],
  ])('%s', (text, second) => expect(momentOf(text)).toBe(second))
})
