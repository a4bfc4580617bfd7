import { mount } from '@vue/test-utils'
import { QueryClient, VueQueryPlugin } from '@tanstack/vue-query'
import { describe, expect, it } from 'vitest'
import { defineComponent, h } from 'vue'
import type { Role } from '@/api/access'
import Action from './Action.vue'
import { provideRole } from './role'

/** An action that needs a role, below somebody who has one. */
function below(role: Role, needs: Role) {
  const client = new QueryClient({ defaultOptions: { queries: { staleTime: Infinity } } })
  client.setQueryData(['me'], { name: 'anna', role, must_change: false })
  const Page = defineComponent({
    setup() {
      provideRole()
      return () => h(Action, { needs }, () => 'Start run')
    },
  })
  return mount(Page, { global: { plugins: [[VueQueryPlugin, { queryClient: client }]] } }).get(
    'button',
  )
}

describe('an action', () => {
  it.each([
    ['reader', 'planner', false],
    ['planner', 'planner', true],
    ['administrator', 'planner', true],
    ['planner', 'administrator', false],
  ] as const)('a %s does what needs a %s: %s', (role, needs, may) => {
    const button = below(role, needs)
    expect(button.attributes('disabled') === undefined).toBe(may)
    expect(button.attributes('title')?.includes(`role of ${needs}`) ?? false).toBe(!may)
  })

  it('needs nothing of its own where nobody tells who is signed in', () => {
    const button = mount(Action, { slots: { default: 'Close' } }).get('button')
    expect(button.attributes('disabled')).toBeUndefined()
  })
})
