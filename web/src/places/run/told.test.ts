import { describe, expect, it } from 'vitest'
import type { Schemas } from '@/api/client'
import { boundaryOf, flagsOf, inShort, knownSoFar, storyOf, whyNothing } from './told'

const BEGUN = Date.parse('2026-03-01T09:00:00Z') / 1000
const run = {
  begun_at: BEGUN,
  ended: true,
  transitions: [
    { state: 'running', at: '2026-03-01T09:00:00Z', cause: 'It began.' },
    { state: 'draining', at: '2026-03-01T09:02:00Z', cause: 'The profile is over.' },
  ],
  notes: [
    { at_s: 30, who: 'planner', text: 'Raised to 260 users within 20 s: what breaks?' },
    { at_s: 40, who: 'the search', text: 'Level 3 begins.' },
  ],
  markers: [{ at_s: 50, text: 'planner 3.4 is up' }],
  goes: { seconds: null },
} as unknown as Schemas['RunDetail']

describe('what a run tells', () => {
  it('has flags of what happened to it and what was marked, but none of a search', () => {
    expect(flagsOf(run, [{ t: 12, kind: 'restart' }])).toEqual([
      { t: 12, text: 'restart' },
      { t: 120, text: 'draining' },
      { t: 30, text: 'Raised to 260 users' },
      { t: 50, text: 'planner 3' },
    ])
    expect(flagsOf({ ...run, begun_at: null }, [{ t: 12, kind: 'restart' }])).toEqual([])
  })
  it('has a history in the order of time', () => {
    expect(storyOf(run).map((one) => [one.at.slice(11, 19), one.who])).toEqual([
      ['09:00:00', ''],
      ['09:00:30', 'planner'],
      ['09:00:40', 'the search'],
      ['09:02:00', ''],
    ])
  })
  it('cuts what is too long for a flag', () => {
    expect(inShort('a sentence without any end at all')).toBe('a sentence without …')
    expect(inShort('Raised within 20 s. More.')).toBe('Raised')
  })
  it('draws a limit only where it was found with its interval', () => {
    const note = (grade: string, evidence: object) =>
      ({ kind: 'comfort', grade, evidence }) as unknown as Schemas['Note']
    const whole = { at: 100, low: 90, high: 110 }
    expect(boundaryOf([note('strained', whole)], 'comfort')).toEqual({
      value: 100,
      low: 90,
      high: 110,
    })
    expect(boundaryOf([note('calm', whole)], 'comfort')).toBeNull()
    expect(boundaryOf([note('strained', { at: 100 })], 'comfort')).toBeNull()
    expect(boundaryOf([note('strained', whole)], 'saturation')).toBeNull()
  })
  it('says how far what is known goes', () => {
    expect(knownSoFar(null)).toContain('no level is over')
    const living = { levels: 0, at_s: 0, notes: [] } as unknown as NonNullable<
      Schemas['RunDetail']['living']
    >
    expect(knownSoFar(living)).toContain('no level was long enough')
    const notes = [{ settled: false }] as unknown as (typeof living)['notes']
    expect(knownSoFar({ ...living, levels: 2, at_s: 80 })).toBe('So far, by 2 levels to 1:20.')
    expect(knownSoFar({ ...living, levels: 1, at_s: 80, notes })).toBe(
      'So far, by 1 level to 1:20; what is grey a further level may still change.',
    )
  })
  it('says why there is nothing to see', () => {
    expect(whyNothing({ ...run, ended: false })).toBe('No request has been completed yet.')
    expect(whyNothing(run)).toBe('This run recorded nothing.')
    const gone = { ...run.goes, seconds: '2020-01-01T00:00:00Z' }
    expect(whyNothing({ ...run, goes: gone })).toContain('is gone')
  })
})
