import { mount } from '@vue/test-utils'
import { expect, it } from 'vitest'
import Typed from './Typed.vue'

it('leaves to who types what an answer would overwrite, and says afterwards what is asked', async () => {
  const field = mount(Typed, { props: { label: 'From', value: '0:00' } })
  const input = field.find('input')
  input.element.value = '0:2'
  await input.trigger('input')
  await field.setProps({ value: '0:05' }) // an answer comes in
  expect(input.element.value).toBe('0:2')
  input.element.value = ' 0:20'
  await input.trigger('input')
  await input.trigger('change')
  expect(field.emitted('take')).toEqual([['0:20']])
  await field.setProps({ value: '20 s' })
  expect(input.element.value).toBe('20 s')
  input.element.value = 'soon'
  await input.trigger('input')
  await input.trigger('blur')
  expect(input.element.value).toBe('20 s')
})
