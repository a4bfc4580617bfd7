import { describe, expect, it } from 'vitest'
import { colour, FAILED, laneHeight, pixels } from './weave'

describe('the lanes of users', () => {
  it('are ink where one waits, blank where not, brick where a step failed', () => {
    const drawn = pixels(Uint8Array.from([0, 9, FAILED]), '#102030', '#ff0000')
    expect([...drawn.slice(0, 4)]).toEqual([16, 32, 48, 0])
    expect([...drawn.slice(4, 8)]).toEqual([16, 32, 48, 230])
    expect([...drawn.slice(8)]).toEqual([255, 0, 0, 255])
  })
  it('knows short and long colours', () => {
    expect(colour('#abc')).toEqual(colour('#aabbcc'))
  })
  it('are as high as there is room for', () => {
    expect(laneHeight(3)).toBe(12)
    expect(laneHeight(100)).toBeCloseTo(4.2)
    expect(laneHeight(2000) * 2000).toBeLessThanOrEqual(500)
  })
})
