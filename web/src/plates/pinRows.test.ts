import { describe, expect, it } from 'vitest'
import { painted } from './painted'
import { darkness } from './strip'
import { pinFigures, pinHeight, pinRow, usedBuckets, type PinRow } from './pinRows'
import { viewOf, type Axis, type PlateInput } from './view'

const lines: PinRow = {
  title: 'ledger queries, per step', component: 'ledger', metric: 'queries', figure: 'per step',
  unit: 'per step', lines: [{ label: 'ledger', values: [2, null, 4, 6] }], bounds: [], spread: [],
} // prettier-ignore
const spread: PinRow = {
  ...lines, title: 'ledger disk latency', figure: 'spread', unit: 's', lines: [],
  bounds: [0.001, 0.01, 0.1, null],
  spread: [[0, 0, 0, 0], [0.4, 0.2, null, 0.9], [0.6, 0.8, null, 0.1], [0, 0, null, 0]],
} // prettier-ignore
const input = {
  axis: 'clock',
  plate: {
    bin_s: 1,
    t: [0.5, 1.5, 2.5, 3.5],
    planned: [9, 9, 9, 9],
    users: [10, 10, 20, 20],
    pins: [],
    resources: [],
  },
  profile: { duration_s: 4, axis: { kind: 'users', peak: 20 } },
  levels: [
    { load: { delivered: 10 }, start_s: 0, end_s: 2 },
    { load: { delivered: 20 }, start_s: 2, end_s: 4 },
  ],
  tokens: { ink: '#000' },
} as unknown as PlateInput
const seriesOf = (pin: PinRow, axis: Axis = 'clock') =>
  pinRow(viewOf({ ...input, axis }), pin, 0).series(7) as { data: unknown[]; xAxisIndex: number }[]

describe('pinned figures', () => {
  it('are lines over time with gaps where nothing was read', () => {
    const [line] = seriesOf(lines)
    expect(line?.xAxisIndex).toBe(7)
    expect(line?.data).toEqual([[0.5, 2], [1.5, null], [2.5, 4], [3.5, 6]]) // prettier-ignore
  })

  it('are means of the later half of each level against load', () => {
    const [line] = seriesOf(lines, 'load')
    expect(line?.data).toEqual([[10, null], [20, 6]]) // prettier-ignore
  })

  it('leave out buckets that never hold anything, at both ends', () => {
    expect(usedBuckets(spread)).toEqual([1, 2])
    const [cells] = seriesOf(spread)
    expect(painted(cells)).toHaveLength(6) // two buckets, the gap of one second left out
    expect(painted(cells)[0]).toEqual([0, 1, 0, 0.5, Number(darkness(0.4).toFixed(6))])
  })

  it('say their values at the cursor, or that the run has none', () => {
    const at = (values: (number | null)[]) => values[0] ?? null
    expect(pinFigures(lines, at)).toEqual(['2.00 per step'])
    expect(pinFigures(spread, at)).toEqual(['half ≤ 100 ms', '95 % ≤ 100 ms'])
    expect(pinFigures({ ...lines, lines: [] }, at)).toEqual(['not read in this run'])
    expect(pinHeight({ ...lines, lines: [] })).toBeLessThan(pinHeight(lines))
  })
})
