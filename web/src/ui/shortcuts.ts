import { onScopeDispose, reactive } from 'vue'

export interface Shortcut {
  keys: string
  says: string
  act: () => void
}

/** Every shortcut that works now, newest last; shown by the help. */
export const shortcuts = reactive<Shortcut[]>([])

function typing(target: EventTarget | null): boolean {
  return (
    target instanceof HTMLElement &&
    (target.isContentEditable || ['INPUT', 'TEXTAREA', 'SELECT'].includes(target.tagName))
  )
}

export function pressed(event: KeyboardEvent): string {
  const jump = (event.ctrlKey || event.metaKey) && event.key.toLowerCase() === 'k'
  if (jump) return 'Ctrl K'
  if (event.ctrlKey || event.metaKey || event.altKey) return ''
  return event.key.length === 1 ? event.key.toUpperCase() : event.key
}

window.addEventListener('keydown', (event) => {
  const keys = pressed(event)
  if (keys !== 'Ctrl K' && typing(event.target)) return
  const found = shortcuts.findLast((s) => s.keys === keys)
  if (found) {
    // Dialogs close on Escape only while nobody has claimed it.
    if (keys !== 'Escape') event.preventDefault()
    found.act()
  }
})

/** Shortcuts that live as long as the component that declares them. */
export function useShortcuts(own: Shortcut[]) {
  shortcuts.push(...own)
  const added = shortcuts.slice(-own.length)
  onScopeDispose(() => {
    for (const shortcut of added) shortcuts.splice(shortcuts.indexOf(shortcut), 1)
  })
}
