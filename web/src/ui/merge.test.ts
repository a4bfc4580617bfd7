import { describe, expect, it } from 'vitest'
import { merged, same } from './merge'

const BASE = {
  name: 'trams',
  notes: 'old',
  steps: [
    { name: 'Home', request: 'GET /' },
    { name: 'Buy', request: 'POST /buy', form: { zone: 'A' } },
  ],
}
const steps = (document: unknown) =>
  (document as typeof BASE).steps.map((step) => step.name).join(' ')

describe('two versions of a document', () => {
  it('are put together where they differ in other places', () => {
    const mine = { ...BASE, notes: 'mine' }
    const theirs = { ...BASE, name: 'night trams' }
    const { document, clashes } = merged(BASE, mine, theirs)
    expect(document).toEqual({ ...BASE, notes: 'mine', name: 'night trams' })
    expect(clashes).toEqual([])
  })

  it('follow parts by their names, wherever they moved', () => {
    const [home, buy] = BASE.steps
    const mine = { ...BASE, steps: [buy, { ...home, request: 'GET /start' }] }
    const theirs = {
      ...BASE,
      steps: [home, { ...buy, form: { zone: 'B' } }, { name: 'Leave', request: 'GET /bye' }],
    }
    const { document, clashes } = merged(BASE, mine, theirs)
    expect(clashes).toEqual([])
    expect(document).toEqual({
      ...BASE,
      steps: [
        { ...buy, form: { zone: 'B' } },
        { name: 'Leave', request: 'GET /bye' },
        { ...home, request: 'GET /start' },
      ],
    })
  })

  it('lose what one of them took out, unless the other changed it', () => {
    const [home, buy] = BASE.steps
    const without = { ...BASE, steps: [home] }
    expect(steps(merged(BASE, without, { ...BASE, notes: 'x' }).document)).toBe('Home')
    expect(steps(merged(BASE, { ...BASE, notes: 'x' }, without).document)).toBe('Home')
    const changed = { ...BASE, steps: [home, { ...buy, request: 'POST /purchase' }] }
    const found = merged(BASE, without, changed)
    expect(found.clashes.map((clash) => clash.path)).toEqual(['steps[Buy]'])
  })

  it('clash where both changed the same, and mine stands', () => {
    const found = merged(BASE, { ...BASE, notes: 'mine' }, { ...BASE, notes: 'theirs' })
    expect(found.clashes).toEqual([{ path: 'notes', mine: 'mine', theirs: 'theirs' }])
    expect(found.document).toEqual({ ...BASE, notes: 'mine' })
  })

  it('clash as a whole where nobody knows any more what they were made from', () => {
    const found = merged(undefined, { a: 1, b: 2 }, { a: 1, b: 3 })
    expect(found).toEqual({
      document: { a: 1, b: 2 },
      clashes: [{ path: 'b', mine: 2, theirs: 3 }],
    })
  })

  it('are the same whatever the order of their fields', () => {
    expect(same({ a: 1, b: [1, { c: 2 }] }, { b: [1, { c: 2 }], a: 1 })).toBe(true)
    expect(same({ a: 1 }, { a: 1, b: undefined })).toBe(true)
    expect(same([1], [1, 2])).toBe(false)
  })
})

describe('texts of several lines', () => {
  const base = { source: 'name: a\n# why\nload:\n  - x\n  - y\nend: 1\n' }
  it('are put together line by line', () => {
    const mine = { source: base.source.replace('name: a', 'name: b') }
    const theirs = { source: base.source.replace('end: 1', 'end: 2') }
    const { document, clashes } = merged(base, mine, theirs)
    expect(clashes).toEqual([])
    expect(document).toEqual({ source: 'name: b\n# why\nload:\n  - x\n  - y\nend: 2\n' })
  })
  it('clash in the lines that both changed', () => {
    const mine = { source: base.source.replace('- y', '- mine') }
    const theirs = { source: base.source.replace('- y', '- theirs').replace('name: a', 'name: t') }
    const { document, clashes } = merged(base, mine, theirs)
    expect(clashes).toEqual([{ path: 'source', mine: '  - mine', theirs: '  - theirs' }])
    expect(document).toEqual({ source: 'name: t\n# why\nload:\n  - x\n  - mine\nend: 1\n' })
  })
})
