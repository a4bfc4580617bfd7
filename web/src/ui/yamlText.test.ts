import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { readFileSync } from 'node:fs'
import { at, dataOf, insertItem, moveItem, put, removeItem } from './yamlText'

const quick = readFileSync('../examples/quick.yaml', 'utf8')
const PLAN = `# what it is about
name: Walk # short
load: # in sentences
  # first slowly
  - hold: {users: 5, for: 1 min} # a few
  - climb: {by: 2, every: 10 s, to: 20}

  # then all
  - ramp: {to: 0, over: 5 s}
objectives:
  - {p95: 2 s}
`

describe('a text in YAML', () => {
  it('changes one value and nothing else', () => {
    expect(put(PLAN, ['load', 0, 'hold', 'users'], 12)).toBe(PLAN.replace('users: 5', 'users: 12'))
    expect(put(PLAN, ['name'], 'Walk: far')).toBe(PLAN.replace('name: Walk', 'name: "Walk: far"'))
    expect(put(PLAN, ['name'], 'Walk')).toBe(PLAN)
  })

  it('takes items in, out and elsewhere with their comments', () => {
    const line = '  - wait: 9 s\n'
    expect(insertItem(PLAN, ['load'], 1, { wait: '9 s' })).toBe(
      PLAN.replace('  - climb', `${line}  - climb`),
    )
    expect(insertItem(PLAN, ['load'], 3, { wait: '9 s' })).toContain(`over: 5 s}\n${line}`)
    expect(removeItem(PLAN, ['load'], 0)).toBe(
      PLAN.replace('  # first slowly\n  - hold: {users: 5, for: 1 min} # a few\n', ''),
    )
    const moved = moveItem(PLAN, ['load'], 2, 0)
    expect(moved.indexOf('# then all')).toBeLessThan(moved.indexOf('# first slowly'))
    expect(moved.indexOf('# then all')).toBeLessThan(moved.indexOf('- ramp'))
  })

  it('gives a new field its place', () => {
    const order = ['name', 'question', 'load', 'objectives', 'error_limit']
    expect(put(PLAN, ['question'], 'How far?', order)).toBe(
      PLAN.replace('# short\n', '# short\nquestion: How far?\n'),
    )
    expect(put(PLAN, ['error_limit'], '5 %', order)).toBe(`${PLAN}error_limit: 5 %\n`)
    expect(put(PLAN, ['load', 1, 'climb', 'from'], 3)).toContain(
      '{by: 2, every: 10 s, to: 20, from: 3}',
    )
    expect(put('name: x', ['load'], [{ hold: { users: 1 } }, { a: 1, b: [2] }])).toBe(
      'name: x\nload:\n  - hold: {users: 1}\n  - {a: 1, b: [2]}\n',
    )
    expect(put('name: x', ['notes'], 'one\ntwo\n')).toBe('name: x\nnotes: |\n  one\n  two\n')
  })

  it('is left alone where it cannot be read', () => {
    expect(dataOf('a: [')).toBeUndefined()
    expect(put('a: [', ['a'], 1)).toBe('a: [')
  })

  it('is read as the server reads it', () => {
    expect(dataOf('a: 12:30\nb: 2026-01-01\nc: yes')).toEqual({
      a: '12:30',
      b: '2026-01-01',
      c: true,
    })
  })

  it('in JSON stays JSON', () => {
    const json = '{"name": "x", "load": [{"hold": {"users": 5, "for": "1 s"}}]}'
    for (const made of [
      put(json, ['load', 0, 'hold', 'users'], 7),
      insertItem(json, ['load'], 1, { wait: '3 s' }),
      put(json, ['question'], 'why: "so"'),
    ])
      expect(JSON.parse(made)).toEqual(dataOf(made))
  })

  it('says what was meant, after any change, and keeps what others wrote beside it', () => {
    const value = fc.oneof(
      fc.integer(),
      fc.boolean(),
      fc.string(),
      fc.constantFrom(
        'yes',
        '12:30',
        '- a',
        '# no',
        'a: b',
        '1e3',
        '',
        ' x ',
        'null',
        '~',
        '2026-01-01',
      ),
      fc.constant({ hold: { users: 3, for: '1 min' } }),
      fc.constant([1, 'two']),
    )
    const edit = fc.tuple(fc.nat(5), fc.nat(6), value)
    fc.assert(
      fc.property(fc.array(edit, { maxLength: 5 }), fc.constantFrom(PLAN, quick), (edits, text) => {
        let data = JSON.parse(JSON.stringify(dataOf(text))) as Record<string, unknown[]>
        let made = text
        for (const [kind, place, item] of edits) {
          const list = [...(data.load ?? [])]
          if (kind === 0) list.splice(place % (list.length + 1), 0, item)
          if (kind === 1 && list.length > 1) list.splice(place % list.length, 1)
          if (kind === 2 && list.length) list.splice(0, 0, ...list.splice(place % list.length, 1))
          if (kind === 3 && list.length) list[place % list.length] = item
          const before = data.load ?? []
          if (kind === 0) made = insertItem(made, ['load'], place % (before.length + 1), item)
          if (kind === 1 && before.length > 1)
            made = removeItem(made, ['load'], place % before.length)
          if (kind === 2 && before.length) made = moveItem(made, ['load'], place % before.length, 0)
          if (kind === 3 && before.length) made = put(made, ['load', place % before.length], item)
          data = { ...data, load: list }
          if (kind > 3) {
            made = put(made, [`field${place}`], item)
            data = { ...data, [`field${place}`]: item as unknown as unknown[] }
          }
          expect(dataOf(made)).toEqual(data)
        }
        expect(at(dataOf(made), ['objectives'])).toEqual(data.objectives)
        if (text === PLAN)
          for (const c of ['# what it is about', '# short']) expect(made).toContain(c)
      }),
      { numRuns: 80 },
    )
  }, 30_000)
})
