import { describe, expect, it } from 'vitest'
import { dayAndTime, fieldsAt, inWords, sameClock } from './times'

describe('a moment to come', () => {
  const now = new Date('2026-12-01T12:00:00Z')
  const later = (seconds: number) => new Date(now.getTime() + seconds * 1000)
  it.each([
    [-5, 'now'],
    [45, 'in 45 s'],
    [8040, 'in 2 h 14 min'],
    [3600, 'in 1 h'],
    [7199, 'in 2 h'],
    [90_000, 'in 1 day 1 h'],
    [3 * 86_400, 'in 3 days'],
  ])('%d s away is %s', (seconds, words) => {
    expect(inWords(later(seconds), now)).toBe(words)
  })
  it('is told by the clock of a place', () => {
    expect(dayAndTime(now, 'Asia/Tokyo')).toMatch(/Tuesday.*09:00/)
    expect(sameClock(now, 'Europe/London', 'UTC')).toBe(true)
    expect(sameClock(new Date('2026-07-01T12:00:00Z'), 'Europe/London', 'UTC')).toBe(false)
  })
  it('fills fields by the clock of this machine', () => {
    expect(fieldsAt(new Date(2026, 2, 5, 6, 7))).toEqual({ day: '2026-03-05', time: '06:07' })
  })
})
