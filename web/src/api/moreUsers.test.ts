import { expect, it } from 'vitest'
import { askedIn, told, USUAL } from './moreUsers'

it('reads from an address what it writes there, and takes the usual for what is none', () => {
  const score = { index: 'apdex', limit: 0.9, target_s: 1.5 } as const
  expect(told(score)).toBe('apdex 0.9 1.5')
  expect(askedIn(told(score))).toEqual(score)
  expect(askedIn(told({ ...USUAL.slowdown, limit: 3 }))).toEqual({ ...USUAL.slowdown, limit: 3 })
  expect(askedIn('apdex')).toEqual(USUAL.apdex)
  expect(askedIn('slowdown much')).toEqual(USUAL.slowdown)
  expect(askedIn('mood 3')).toBeUndefined()
  expect(askedIn(['slowdown 3'])).toBeUndefined()
})
