/** How the state of a meter is shown: a glyph, a word, a colour. */
import type { MeterCheck } from '@/api/systems'

export type MeterWord = MeterCheck['state'] | 'partly' | 'none' | 'asking'

const looks: Record<MeterWord, { glyph: string; word: string; look: string }> = {
  reports: { glyph: '○', word: 'reports', look: 'text-moss' },
  partly: { glyph: '◐', word: 'partly silent', look: 'text-ochre' },
  silent: { glyph: '✕', word: 'silent', look: 'text-brick' },
  waiting: { glyph: '◌', word: 'waiting', look: 'text-ink-2' },
  none: { glyph: '◌', word: 'no meter', look: 'text-ink-2' },
  asking: { glyph: '…', word: 'asking', look: 'text-ink-2' },
}

export function stateOf(word: MeterWord | undefined) {
  return looks[word ?? 'asking']
}

/** One word for all sources of a component. Sources that wait do not spoil those that report. */
export function together(checks: MeterCheck[]): MeterWord {
  const states = new Set(checks.map((check) => check.state))
  if (states.has('silent')) return states.has('reports') ? 'partly' : 'silent'
  return states.has('reports') ? 'reports' : checks.length ? 'waiting' : 'none'
}
