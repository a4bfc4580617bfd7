import { describe, expect, it } from 'vitest'
import { dataOf } from '@/ui/yamlText'
import type { PlanDoc } from '../experiment/plan'
import { heldAt } from './again'

const PLAN = `name: Two # of them
system: Quillport
load: # too much
  - climb: {from: 50, to: 500, by: 50, every: 1 min}
candidates: {blocks: 5}
`

describe('again at a load all can carry', () => {
  it('holds it, and keeps everything else as it was written', () => {
    const text = heldAt(PLAN, 209.9, 'users') ?? ''
    expect(dataOf(text)).toEqual({
      name: 'Two at 210 users',
      system: 'Quillport',
      load: [{ hold: { users: 210, for: '2 min' } }],
      candidates: { blocks: 5 },
    })
    expect(text).toContain('system: Quillport')
  })

  it('leaves each group its share', () => {
    const text = heldAt(
      `name: Two
groups:
  - {name: riders, users: [{hold: {users: 300, for: 1 min}}]}
  - {name: staff, users: [{hold: {users: 100, for: 1 min}}]}
`,
      200,
      'users',
    )
    const groups = (dataOf(text ?? '') as PlanDoc).groups
    expect(groups?.map((group) => group.users)).toEqual([
      [{ hold: { users: 150, for: '2 min' } }],
      [{ hold: { users: 50, for: '2 min' } }],
    ])
  })

  it('counts arrivals by the second', () => {
    const text = heldAt(
      'name: Two\ngroups:\n  - {name: riders, arrivals: [{hold: {rate: 60 /s, for: 1 min}}]}\n',
      24.518,
      'arrivals/s',
    )
    expect(text).toContain('24.5 /s')
    expect(text).toContain('Two at 24.5 a second')
  })

  it('is nothing where the text cannot be read', () => {
    expect(heldAt('name: [', 10, 'users')).toBeNull()
  })
})
