import { describe, expect, it } from 'vitest'
import { columnsOf, drawnOf, MOST_LINES, roundTicks, valueOf } from './answer'

const answer = (names: string[], rows: (string | number | null)[][]) => ({
  columns: names.map((name) => ({ name, kind: '' })),
  rows,
})

describe('an answer as lines', () => {
  const byStep = answer(
    ['step', 'level', 'done', 'p95_s'],
    [
      ['Buy', 2, 9, 0.4],
      ['Buy', 1, 8, 0.2],
      ['Look', 1, 5, 0.01],
      ['Look', 2, 6, null],
    ],
  )
  it('knows which columns hold numbers, though some are not known', () => {
    expect(columnsOf(byStep)).toEqual({ numbers: ['level', 'done', 'p95_s'], texts: ['step'] })
    expect(columnsOf(answer(['a'], [[null]]))).toEqual({ numbers: [], texts: [] })
  })
  it('is apart by its text, along a number in order, the highest first', () => {
    const drawn = drawnOf(byStep, 'level', 'p95_s')
    expect(drawn?.lines).toEqual([
      {
        name: 'Buy',
        points: [
          [1, 0.2],
          [2, 0.4],
        ],
      },
      {
        name: 'Look',
        points: [
          [1, 0.01],
          [2, null],
        ],
      },
    ])
    expect(drawn?.by).toBe('step')
  })
  it('needs two points to lead a line through', () => {
    expect(drawnOf(answer(['at', 'n'], [[1, 4]]), 'at', 'n')).toBeNull()
    expect(drawnOf(byStep, 'level', 'nothing')).toBeNull()
  })
  it('says how many lines it leaves out', () => {
    const rows = Array.from({ length: 9 }, (_, k) =>
      [0, 1].map((at) => [`step ${k}`, at, k]),
    ).flat()
    const drawn = drawnOf(answer(['step', 'at', 'n'], rows), 'at', 'n')
    expect([drawn?.lines.length, drawn?.left]).toEqual([MOST_LINES, 3])
    expect(drawn?.lines[0]?.name).toBe('step 8')
  })
})

it('has round numbers at its scales', () => {
  expect(roundTicks(0, 17.4)).toEqual([0, 5, 10, 15])
  expect(roundTicks(1, 11)).toEqual([2, 4, 6, 8, 10])
  expect(roundTicks(0, 0.0031)).toEqual([0, 0.001, 0.002, 0.003])
  expect(roundTicks(4, 4)).toEqual([4])
})

it('tells values in the unit that their column names', () => {
  expect(valueOf('p95_s', 0.25)).toBe('250 ms')
  expect(valueOf('at_s', 61.25)).toBe('61.3')
  expect(valueOf('per_s', 2)).toBe('2')
  expect(valueOf('step', 'Buy')).toBe('Buy')
  expect(valueOf('n', null)).toBe('–')
})
