import { describe, expect, it } from 'vitest'
import { choices, deeds, meant, whom } from './steering'

const run = (mode: string, state = 'running', at_most = false) =>
  ({ mode, state, outline: { profile: { at_most } } }) as unknown as Parameters<typeof deeds>[0]
const keys = (mode: string, state?: string, at_most?: boolean) =>
  deeds(run(mode, state, at_most)).map((one) => one.asked)
const PEOPLE = [
  { name: 'tram', region: 'north', arrives: false },
  { name: 'bus', region: 'north', arrives: false },
  { name: 'ferry', region: 'south', arrives: true },
]

describe('what can be asked of a run', () => {
  it('depends on where its load stands', () => {
    expect(keys('profile')).toEqual([
      'load',
      'hold',
      'pause',
      'skip',
      'extend',
      'let go',
      'cut off',
    ])
    expect(keys('held')).toEqual(['load', 'resume', 'pause', 'skip', 'let go', 'cut off'])
    expect(keys('paused')).toEqual(['resume', 'let go', 'cut off'])
  })
  it('leaves the levels of a search to it', () => {
    expect(keys('profile', 'running', true)).toEqual(['load', 'hold', 'pause', 'let go', 'cut off'])
  })
  it('is only to cut off while users finish, and nothing before or after', () => {
    expect(keys('profile', 'draining')).toEqual(['cut off'])
    expect(keys('', 'preparing')).toEqual([])
    expect(keys('profile', 'analysing')).toEqual([])
  })
  it('has every key once', () => {
    for (const mode of ['profile', 'held', 'paused']) {
      const own = deeds(run(mode)).flatMap((one) => (one.key ? [one.key] : []))
      expect(new Set(own).size).toBe(own.length)
    }
  })
})

describe('whose load is changed', () => {
  it('is everybody, a group or a region', () => {
    expect(choices(PEOPLE).map((one) => one.value)).toEqual([
      '', 'group:tram', 'group:bus', 'group:ferry', 'region:north', 'region:south',
    ]) // prettier-ignore
    expect(meant(PEOPLE, 'region:north').map((one) => one.name)).toEqual(['tram', 'bus'])
    expect(whom('group:a:b')).toEqual({ group: 'a:b' })
    expect(whom('')).toEqual({})
  })
  it('is not asked where there is one group', () => {
    expect(choices(PEOPLE.slice(0, 1))).toHaveLength(1)
  })
})
