import { expect, it } from 'vitest'
import { curveAt } from './curves'
import type { Place } from './view'

const curves = {
  loads: [10, 20, 30],
  bounds: [1, 2, 2.5],
  throughput: [],
  response_s: [],
  scalability: [1, 1.8, 2.2],
  contention: 0.1,
  coherency: 0.01,
}
const at = (x: number) => ({ x }) as Place

it('reads a curve between its points and nothing beyond them', () => {
  expect(curveAt(curves, 'bounds', at(15))).toBeCloseTo(1.5)
  expect(curveAt(curves, 'bounds', at(10))).toBe(1)
  expect(curveAt(curves, 'bounds', at(30))).toBeCloseTo(2.5)
  expect(curveAt(curves, 'bounds', at(31))).toBeNull()
  expect(curveAt(curves, 'bounds', at(9))).toBeNull()
  expect(curveAt(curves, 'throughput', at(15))).toBeNull()
  expect(curveAt(curves, 'scalability', at(25))).toBeCloseTo(2)
  expect(curveAt(undefined, 'bounds', at(15))).toBeNull()
})
