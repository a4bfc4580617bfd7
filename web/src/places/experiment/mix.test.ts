import { describe, expect, it } from 'vitest'
import { hundredths, placeOf, withBorder } from './mix'

const portions = (...shares: number[]) => shares.map((share, i) => ({ name: `j${i}`, share }))

describe('shares as hundredths', () => {
  it('add up to a hundred and are as near as whole ones can be', () => {
    expect(hundredths(portions(1, 1, 1))).toEqual([34, 33, 33])
    expect(hundredths(portions(60, 30, 10))).toEqual([60, 30, 10])
    expect(hundredths(portions(1, 1, 1, 1, 1, 1, 1)).reduce((a, b) => a + b)).toBe(100)
  })
  it('leave nobody without a part', () => {
    expect(hundredths(portions(1, 9999))).toEqual([1, 99])
    expect(hundredths(portions(1, 1, 1, 1, 9999))).toEqual([1, 1, 1, 1, 96])
  })
})

describe('a border', () => {
  it('changes its two neighbours alone', () => {
    expect(withBorder([34, 33, 33], 0, 50)).toEqual([50, 17, 33])
    expect(withBorder([34, 33, 33], 1, 50)).toEqual([34, 16, 50])
  })
  it('stops where a neighbour has one left', () => {
    expect(withBorder([34, 33, 33], 0, 99)).toEqual([66, 1, 33])
    expect(withBorder([34, 33, 33], 1, -20)).toEqual([34, 1, 65])
  })
  it('stands where its part ends', () => {
    expect([0, 1].map((i) => placeOf([34, 33, 33], i))).toEqual([34, 67])
  })
})
