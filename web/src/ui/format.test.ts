import { describe, expect, it } from 'vitest'
import { clock, figure, given, percent, rate, seconds, users } from './format'

describe('numbers on screen', () => {
  it('have three significant figures', () => {
    expect([0, 0.01234, 59.24, 410.4, NaN, null].map(figure)).toEqual([
      '0',
      '0.0123',
      '59.2',
      '410',
      '–',
      '–',
    ])
  })
  it('always have their unit', () => {
    expect([0.34, 1.24, 200, 180, 0].map(seconds)).toEqual([
      '340 ms',
      '1.24 s',
      '3 min 20 s',
      '3 min',
      '0 s',
    ])
    expect(rate(59.17)).toBe('59.2 steps/s')
    expect([0.942, 0.0035, 0].map(percent)).toEqual(['94 %', '0.350 %', '0 %'])
  })
  it('do not invent figures for what was given', () => {
    expect([0, 0.2, 1, 60, 300, 200].map(given)).toEqual([
      '0 s',
      '200 ms',
      '1 s',
      '60 s',
      '5 min',
      '3 min 20 s',
    ])
  })
  it('show moments and users', () => {
    expect([clock(0), clock(245)]).toEqual(['0:00', '4:05'])
    expect(users(12345)).toBe('12\u2009345')
  })
})
