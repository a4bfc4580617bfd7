import { describe, expect, it } from 'vitest'
import type { Schemas } from '@/api/client'
import {
  anchorAt,
  anchorsOf,
  drawn,
  figureOf,
  near,
  ratiosOf,
  rowsOf,
  told,
  type Laid,
} from './overlay'

/** A run of two levels, 100 and 200 users, whose steps take so long. */
function run(id: number, p95: number, keys: string[], at_s = 40): Laid {
  const level = (number: number, load: number, start_s: number) => ({
    number,
    start_s,
    end_s: start_s + 50,
    load: { delivered: load },
    throughput: load / 2,
    errors: 10,
    steps: [{ step: 3, p50_s: p95 / 2, p95_s: p95 * number, p99_s: null }],
    utilisation: { 'ledger.cpu': 0.3 * number },
  })
  return {
    id,
    plate: {
      t: [5, 15, 25],
      users: [100, null, 200],
      throughput: [50, 60, 100],
      errors: [0, 0, 1],
      parts: [{ id: 'step:3', name: 'Buy ticket', throughput: [], p95: [p95, p95, null] }],
      resources: keys.map((key) => ({ key, utilisation: [0.1, 0.2, 0.3] })),
    },
    levels: [level(1, 100, 10), level(2, 200, 60)],
    notes: [{ at_s, text: 'cache emptied' }],
  } as unknown as Laid
}
const runs = [run(1, 0.2, ['ledger.cpu', 'old.cpu']), run(2, 0.3, ['ledger.cpu'], 70)]

describe('runs laid on each other', () => {
  it('have the rows that all of them have', () => {
    expect(rowsOf(runs).map((row) => row.name)).toEqual([
      'Users',
      'Throughput',
      'Buy ticket p95',
      'Errors',
      'ledger cpu busy',
    ])
  })
  it('stand on the clock at seconds since what they are laid at', () => {
    const [, second] = drawn(runs, 'throughput', 'clock', 'note cache emptied')
    expect(second?.dots[0]).toEqual({ x: 5 - 70, y: 50 })
    expect(drawn(runs, 'users', 'clock', 'start')[0]?.dots.map((dot) => dot.x)).toEqual([5, 25])
    expect(anchorAt(runs[0]!, 'level 2')).toBe(60)
    expect(anchorsOf(runs).map((one) => one.text)).toEqual([
      'the start of load',
      'the start of level 2',
      'cache emptied',
    ])
  })
  it('stand against load at their levels', () => {
    const [first, second] = drawn(runs, 'step Buy ticket', 'load', 'start')
    expect(first?.dots).toEqual([
      { x: 100, y: 0.2 },
      { x: 200, y: 0.4 },
    ])
    expect(second?.dots[1]).toEqual({ x: 200, y: 0.6 })
    expect(drawn(runs, 'errors', 'load', 'start')[0]?.dots[0]?.y).toBe(0.2)
    expect(drawn(runs, 'busy ledger.cpu', 'load', 'start')[0]?.dots[1]?.y).toBe(0.6)
  })
  it('have a ratio where the comparison has one', () => {
    const figure = {
      figure: 'p95',
      subject: 'Buy / Buy ticket',
      detectable: 0.1,
      by_load: {
        load: [200, 100],
        first: [0.4, 0.2],
        second: [0.6, 0.2],
        low: [1.4, 0.9],
        high: [1.6, 1.1],
      },
    } as unknown as Schemas['FigureLine']
    expect(figureOf('step Buy ticket', [figure])).toBe(figure)
    expect(figureOf('step Ticket page', [figure])).toBeUndefined()
    expect(figureOf('users', [figure])).toBeUndefined()
    const { points, most } = ratiosOf(figure)
    expect(points.map((point) => point.x)).toEqual([100, 200])
    expect(points[1]?.ratio).toBeCloseTo(1.5)
    expect(most).toBeGreaterThan(Math.log(1.5))
  })
  it('tell the value nearest to the cursor, if one is near', () => {
    const dots = [
      { x: 10, y: 1 },
      { x: 20, y: 2 },
    ]
    expect(near(dots, 16, 5)).toBe(2)
    expect(near(dots, 40, 5)).toBeNull()
    expect(told(null, { id: '', name: '', unit: 'rate' })).toBe('–')
    expect(told(0.25, { id: '', name: '', unit: 'share' })).toBe('25 %')
  })
})
