import { mount } from '@vue/test-utils'
import { describe, expect, it } from 'vitest'
import Grade from './Grade.vue'
import Problem from './Problem.vue'
import RunState from './RunState.vue'
import Sentence from './Sentence.vue'
import { ProblemError } from '@/api/problem'

describe('a sentence of the findings', () => {
  it('sets the names between backticks apart and keeps the words', () => {
    const found = mount(Sentence, { props: { text: 'The limit is `ledger` CPU' } })
    expect(found.findAll('code').map((code) => code.text())).toEqual(['ledger'])
    expect(found.text()).toBe('The limit is ledger CPU')
  })
  it('keeps numbers and their units in one line, without a change of the words', () => {
    const text = 'Up to 1.50 s at 19 % of 3 steps, in `part 5 %`'
    const found = mount(Sentence, { props: { text } })
    expect(found.findAll('.whitespace-nowrap').map((one) => one.text())).toEqual(['1.50 s', '19 %'])
    expect(found.element.textContent).toBe(text.replaceAll('`', ''))
  })
  it('takes text without names as it is', () => {
    const found = mount(Sentence, { props: { text: '<b>No</b> errors' } })
    expect(found.findAll('code')).toHaveLength(0)
    expect(found.text()).toBe('<b>No</b> errors')
  })
})

describe('grades and states', () => {
  it('are a glyph and a word, never a colour alone', () => {
    expect(mount(Grade, { props: { grade: 'saturated' } }).text()).toMatch(/●\s*saturated/)
    expect(mount(RunState, { props: { state: 'failed' } }).text()).toMatch(/✕\s*failed/)
  })
  it('keep their word for screen readers where it is hidden', () => {
    const word = mount(Grade, { props: { grade: 'holds', wordless: true } }).find('.sr-only')
    expect(word.text()).toBe('holds')
  })
})

describe('a problem on screen', () => {
  it('shows place, fault and mend of each', () => {
    const fault = { path: 'load[0]', message: 'No unit.', mend: 'Write 30 s.' }
    const error = new ProblemError({
      status: 422,
      title: 'The plan cannot run',
      detail: 'x',
      problems: [fault],
    })
    const text = mount(Problem, { props: { error } }).text()
    for (const part of ['The plan cannot run', 'load[0]', 'No unit. Write 30 s.'])
      expect(text).toContain(part)
  })
  it('says so when the server is away', () => {
    const text = mount(Problem, { props: { error: new TypeError('x') } }).text()
    expect(text).toContain('The server cannot be reached')
  })
})
