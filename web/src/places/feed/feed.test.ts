import { mount } from '@vue/test-utils'
import { describe, expect, it } from 'vitest'
import RecipeForm from './RecipeForm.vue'
import RowsTable from './RowsTable.vue'
import { columnOf, completed, kindOf, kinds, numberOf, shortage, type RecipeDoc } from './document'

describe('a column', () => {
  it('is of the kind it was made', () => {
    for (const { value } of kinds) expect(kindOf(columnOf('x', value))).toBe(value)
  })

  it('keeps only what its law needs', () => {
    expect(numberOf('normal', { law: 'uniform', from: 1, to: 9, decimals: 2 })).toEqual({
      law: 'normal',
      mean: 50,
      deviation: 12.5,
      decimals: 2,
    })
    expect(numberOf('exponential', { law: 'normal', mean: 8, deviation: 2 })).toEqual({
      law: 'exponential',
      mean: 8,
    })
    expect(numberOf('uniform', { law: 'normal', mean: 8 })).toEqual({
      law: 'uniform',
      from: 1,
      to: 100,
    })
  })

  it('does not stand empty where everything is as usual', () => {
    const make: RecipeDoc = {
      rows: 1,
      columns: [
        { name: 'a', sequence: {} },
        { name: 'b', person: {} },
        { name: 'c', number: { from: 1, to: 2 } },
      ],
    }
    completed({ name: 'x', make })
    expect(
      make.columns.map((c) => Object.keys({ ...c.sequence, ...c.person, ...c.number })),
    ).toEqual([['from'], ['part'], ['from', 'to', 'law']])
  })
})

describe('rows for users', () => {
  it('are enough unless each user needs one of their own', () => {
    expect(shortage(10, 50)).toBe('')
    expect(shortage(50, 50, 'one per user')).toBe('')
    expect(shortage(10, 50, 'one per user')).toBe('several users share a row')
    expect(shortage(10, 50, 'in order', 'retire')).toBe('users retire once it is used up')
    expect(shortage(10, 50, 'at random', 'retire')).toBe('')
  })
})

describe('the form of a recipe', () => {
  it('adds columns under free names and changes what they hold', async () => {
    const recipe: RecipeDoc = { rows: 5, columns: [columnOf('column_2', 'sequence')] }
    const form = mount(RecipeForm, {
      props: { modelValue: recipe, faultBelow: () => undefined },
    })
    const remove = () => form.findAll('button').find((b) => b.text() === 'Remove')
    expect(remove()?.attributes('disabled')).toBeDefined()
    await form
      .findAll('button')
      .find((b) => b.text() === 'Add a column')
      ?.trigger('click')
    expect(recipe.columns.map((c) => c.name)).toEqual(['column_2', 'column_3'])
    expect(form.emitted('done')).toHaveLength(1)
  })
})

describe('a table of rows', () => {
  it('numbers them and tells what is missing from what is empty', () => {
    const table = mount(RowsTable, {
      props: { columns: ['stop', 'zone'], rows: [['Quay', ''], ['Mill']], start: 40 },
    })
    expect(table.findAll('tbody tr').map((row) => row.text())).toEqual([
      '41Quayempty',
      '42Millmissing',
    ])
  })
})
