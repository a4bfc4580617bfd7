import { describe, expect, it } from 'vitest'
import { LEFT, RIGHT } from './layout'
import { stretchBetween } from './dragging'

const width = LEFT + RIGHT + 500
const axis = { min: 100, max: 600 } // a pixel a second

describe('a stretch dragged across the plate', () => {
  it('is the seconds under it, whichever way it was dragged', () => {
    expect(stretchBetween(LEFT + 10.2, LEFT + 80.7, width, axis)).toEqual({ from: 110, until: 181 })
    expect(stretchBetween(LEFT + 80.7, LEFT + 10.2, width, axis)).toEqual({ from: 110, until: 181 })
  })
  it('is a few seconds at least, and none for a click', () => {
    expect(stretchBetween(LEFT + 10, LEFT + 12, width, axis)).toBeNull()
    expect(stretchBetween(LEFT, LEFT + 200, width, { min: 0, max: 5 })).toEqual({
      from: 0,
      until: 5,
    })
  })
  it('ends where the plate does', () => {
    expect(stretchBetween(0, width, width, axis)).toEqual({ from: 100, until: 600 })
  })
})
