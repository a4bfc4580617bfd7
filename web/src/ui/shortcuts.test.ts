import { describe, expect, it, vi } from 'vitest'
import { effectScope } from 'vue'
import { shortcuts, useShortcuts } from './shortcuts'

function press(key: string, more: KeyboardEventInit = {}, target: EventTarget = window) {
  target.dispatchEvent(new KeyboardEvent('keydown', { key, bubbles: true, ...more }))
}

describe('shortcuts', () => {
  it('act while their component lives, and not in text fields', () => {
    const act = vi.fn()
    const scope = effectScope()
    scope.run(() => useShortcuts([{ keys: 'L', says: 'axis', act }]))
    press('l')
    expect(act).toHaveBeenCalledTimes(1)
    const field = document.body.appendChild(document.createElement('textarea'))
    press('l', {}, field)
    press('l', { ctrlKey: true })
    expect(act).toHaveBeenCalledTimes(1)
    scope.stop()
    press('l')
    expect(act).toHaveBeenCalledTimes(1)
    expect(shortcuts).toHaveLength(0)
  })
  it('jump with Ctrl K even in text fields', () => {
    const act = vi.fn()
    const scope = effectScope()
    scope.run(() => useShortcuts([{ keys: 'Ctrl K', says: 'jump', act }]))
    const field = document.body.appendChild(document.createElement('input'))
    press('k', { ctrlKey: true }, field)
    expect(act).toHaveBeenCalledTimes(1)
    scope.stop()
  })
})
