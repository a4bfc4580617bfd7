import { describe, expect, it } from 'vitest'
import { BOX, drawMap } from './systemMap'

const columnOf = (found: ReturnType<typeof drawMap>) =>
  Object.fromEntries(found.boxes.map((b) => [b.name, Math.round((b.x - 2) / (BOX.width + 64))]))

describe('the map of a system', () => {
  it('puts callers left of what they call', () => {
    const found = drawMap([
      { name: 'ledger', calls: [] },
      { name: 'gateway', calls: ['planner', 'ledger'] },
      { name: 'planner', calls: ['ledger'] },
    ])
    expect(columnOf(found)).toEqual({ gateway: 0, planner: 1, ledger: 2 })
    expect(found.lines.map((l) => `${l.from} ${l.to}`)).toContain('planner ledger')
  })

  it('survives circles, unknown names and no component at all', () => {
    const circle = drawMap([
      { name: 'a', calls: ['b'] },
      { name: 'b', calls: ['a', 'nobody'] },
    ])
    expect(circle.boxes).toHaveLength(2)
    expect(circle.lines).toHaveLength(2)
    expect(drawMap([]).boxes).toEqual([])
  })

  it('stacks the components of a column without overlap', () => {
    const many = drawMap(Array.from({ length: 5 }, (_, i) => ({ name: `c${i}`, calls: [] })))
    const tops = many.boxes.map((b) => b.y)
    tops.slice(1).forEach((y, i) => expect(y - (tops[i] ?? 0)).toBeGreaterThan(BOX.height))
    expect(many.height).toBeGreaterThan((tops.at(-1) ?? 0) + BOX.height)
  })
})
