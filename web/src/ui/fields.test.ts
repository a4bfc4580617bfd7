import { mount } from '@vue/test-utils'
import { describe, expect, it } from 'vitest'
import Choice from './Choice.vue'
import Credentials from './Credentials.vue'
import DraftListFoot from './DraftListFoot.vue'
import DraftListHead from './DraftListHead.vue'
import LoadSketch from './LoadSketch.vue'
import type { Problem } from '@/api/problem'
import DraftState from './DraftState.vue'
import type { Saving } from './draft'
import Field from './Field.vue'
import Spark from './Spark.vue'

const FAULT = { path: 'name', message: 'the name is taken.', mend: 'Choose another.' }

describe('a field', () => {
  it('is taken over when one leaves it, not at every key', async () => {
    const found = mount(Field, { props: { label: 'Name', modelValue: 'a' } })
    const input = found.find('input')
    await input.setValue('trams')
    await input.trigger('change')
    expect(found.emitted('update:modelValue')?.at(-1)).toEqual(['trams'])
    expect(found.emitted('done')).toBeTruthy()
    expect(found.find('label').attributes('for')).toBe(input.attributes('id'))
  })

  it('gives numbers as numbers, and an empty one as none', async () => {
    const found = mount(Field, { props: { label: 'Instances', type: 'number', modelValue: 2 } })
    const input = found.find('input')
    for (const text of ['7', '']) {
      ;(input.element as HTMLInputElement).value = text
      await input.trigger('change')
    }
    expect(found.emitted('update:modelValue')).toEqual([[7], [undefined]])
  })

  it('says its fault instead of its hint, to everybody', () => {
    const found = mount(Field, { props: { label: 'Name', hint: 'as people say', fault: FAULT } })
    expect(found.find('[role=alert]').text()).toBe('✕ the name is taken. Choose another.')
    expect(found.find('input').attributes('aria-invalid')).toBe('true')
    expect(found.text()).not.toContain('as people say')
  })

  it('has lines where it needs them', () => {
    const found = mount(Field, { props: { label: 'Notes', lines: 3, modelValue: 'a\nb' } })
    expect(found.find('textarea').attributes('rows')).toBe('3')
  })
})

describe('a choice', () => {
  it('offers its options and tells the one taken', async () => {
    const options = [
      { value: 'a', text: 'first' },
      { value: 'b', text: 'second' },
    ]
    const found = mount(Choice, { props: { label: 'Which', options, modelValue: 'a' } })
    expect(found.findAll('option').map((o) => o.text())).toEqual(['first', 'second'])
    await found.find('select').setValue('b')
    expect(found.emitted('update:modelValue')?.at(-1)).toEqual(['b'])
    expect(found.emitted('done')).toBeTruthy()
  })
})

describe('credentials', () => {
  const shown = (given?: { bearer?: string; user?: string; password?: string }) =>
    mount(Credentials, { props: { modelValue: given } })

  it('show the fields of the way chosen, secrets hidden', () => {
    expect(shown().findAll('input')).toHaveLength(0)
    expect(shown({ bearer: '(kept)' }).find('input').attributes('type')).toBe('password')
    const basic = shown({ user: 'anna', password: '(kept)' })
    expect(basic.findAll('label').map((l) => l.text())).toEqual(['Access', 'User', 'Password'])
    expect(basic.findAll('input').at(1)?.attributes('type')).toBe('password')
  })

  it('begin empty, are saved once something is written, and at once when taken away', async () => {
    const found = shown()
    await found.find('select').setValue('bearer')
    expect(found.emitted('update:modelValue')?.at(-1)).toEqual([{ bearer: '' }])
    expect(found.emitted('done')).toBeFalsy()
    const signed = shown({ user: 'anna', password: '' })
    await signed.findAll('input').at(1)?.setValue('secret')
    await signed.findAll('input').at(1)?.trigger('change')
    expect(signed.emitted('update:modelValue')?.at(-1)).toEqual([
      { user: 'anna', password: 'secret' },
    ])
    await signed.find('select').setValue('none')
    expect(signed.emitted('update:modelValue')?.at(-1)).toEqual([undefined])
    expect(signed.emitted('done')).toBeTruthy()
  })
})

describe('the state of a document', () => {
  const state = (saving: Saving, faults = [FAULT], outdated: Problem | null = null) =>
    mount(DraftState, {
      props: {
        ...{ saving, faults, outdated, clashes: [{ path: 'notes', mine: 'a', theirs: undefined }] },
        ...{ error: new TypeError('x'), canUndo: true, canRedo: false },
      },
    })

  it('is a word, with the faults and the way back', async () => {
    const found = state('not saved')
    expect(found.find('[data-testid=saving]').text()).toBe('✕ Not saved yet')
    expect(found.text()).toContain('name: the name is taken. Choose another.')
    const [undo, redo] = found.findAll('button')
    expect(redo?.attributes('disabled')).toBeDefined()
    await undo?.trigger('click')
    expect(found.emitted('undo')).toHaveLength(1)
    expect(state('saved', []).find('[data-testid=saving]').text()).toBe('○ Saved')
  })

  it('tells what somebody else changed too, and offers every way out', async () => {
    const detail = 'berta saved this while you changed it.'
    const found = state('not saved', [], { status: 409, title: 't', detail, problems: [] })
    expect(found.find('[role=alert]').text()).toContain(detail)
    expect(found.find('[role=alert]').text()).toContain('notes: you to a, they to nothing')
    for (const button of found.find('[role=alert]').findAll('button')) await button.trigger('click')
    expect(found.emitted('resolve')).toEqual([['both'], ['theirs'], ['mine']])
    expect(state('typing', []).find('[data-testid=saving]').text()).toBe('◐ Typing, not saved yet')
  })

  it('offers to try again when the server is away', async () => {
    const found = state('not saved', [])
    expect(found.text()).toContain('The server cannot be reached')
    await found.find('button').trigger('click')
    expect(found.emitted('again')).toHaveLength(1)
  })
})

describe('the head of a list of documents', () => {
  it('makes, imports and shows the archived', async () => {
    const found = mount(DraftListHead, {
      props: { title: 'Systems', kind: 'system', busy: false },
    })
    await found.findAll('button').at(-1)?.trigger('click')
    expect(found.emitted('create')).toHaveLength(1)
    const input = found.find('input[type=file]')
    const file = { text: () => Promise.resolve('name: x') }
    Object.defineProperty(input.element, 'files', { value: [file] })
    await input.trigger('change')
    await new Promise((resolve) => setTimeout(resolve))
    expect(found.emitted('import')).toEqual([['name: x']])
  })
})

describe('a small line', () => {
  const path = (values: (number | null)[]) =>
    mount(Spark, { props: { values, label: 'x' } })
      .find('path')
      .attributes('d') ?? ''

  it('lifts the pen over what is unknown', () => {
    expect(path([1, 2, null, 3]).match(/[ML]/g)?.join('')).toBe('MLM')
    expect(path([])).toBe('')
  })

  it('stands on zero, or below it where values are', () => {
    expect(path([0, 10])).toMatch(/^M0\.0,24\.0L132\.0,2\.0$/)
    expect(path([-5, 5])).toMatch(/^M0\.0,24\.0/)
  })
})

describe('the foot of a list', () => {
  it('leads to what is put out of the way, and back', async () => {
    const found = mount(DraftListFoot, { props: { kind: 'system', archived: false } })
    expect(found.text()).toBe('Show archived systems')
    await found.find('button').trigger('click')
    expect(found.emitted('update:archived')?.at(-1)).toEqual([true])
    await found.setProps({ archived: true })
    expect(found.text()).toBe('Back to the systems in use')
  })
})

describe('a sketch of the load', () => {
  it('says what it draws, and draws nothing of nothing', () => {
    const load = [
      { t: 0, users: 30 },
      { t: 60, users: 180 },
    ]
    const found = mount(LoadSketch, { props: { load } })
    expect(found.attributes('aria-label')).toContain('180 users')
    expect(found.find('polyline').attributes('points')).toBe('0.0,21.2 132.0,2.0')
    expect(
      mount(LoadSketch, { props: { load: [] } })
        .find('svg')
        .exists(),
    ).toBe(false)
  })
})
