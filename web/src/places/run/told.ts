/** What a run's page tells of its run, from what is known of it: flags on the plate, its history, how far findings go. */
import type { Schemas } from '@/api/client'
import type { Boundary } from '@/plates/view'
import { clock, counted } from '@/ui/format'

type Run = Schemas['RunDetail']
type Note = Schemas['Note']

const SEARCH = 'the search'
const LONGEST = 20

/** What a flag on the plate has room for: the first sentence, cut. */
export function inShort(text: string): string {
  const first = (text.split(/[.:]/)[0] ?? '').replace(/ within .*/, '')
  return first.length > LONGEST ? `${first.slice(0, LONGEST - 1)}…` : first
}

/** What stands on the plate at its moment: what happened to meters, the run itself, and what somebody did or marked. */
export function flagsOf(run: Run, events: { t: number; kind: string }[]) {
  const begun = run.begun_at
  if (!begun) return []
  const moves = run.transitions
    .filter((one) => one.state === 'draining')
    .map((one) => ({ t: new Date(one.at).getTime() / 1000 - begun, text: one.state }))
  // The levels of a search are seen as they are.
  const noted = run.notes
    .filter((one) => one.who !== SEARCH)
    .map((one) => ({ t: one.at_s, text: inShort(one.text) }))
  const marked = run.markers.map((one) => ({ t: one.at_s, text: inShort(one.text) }))
  return [...events.map((one) => ({ t: one.t, text: one.kind })), ...moves, ...noted, ...marked]
}

/** All that happened to a run and who did it, in the order of time. */
export function storyOf(run: Run) {
  const begun = run.begun_at ?? 0
  const moves = run.transitions.map((one) => ({ ...one, who: '' }))
  const noted = run.notes.map((one) => ({
    at: new Date((begun + one.at_s) * 1000).toISOString(),
    state: '',
    cause: one.text,
    who: one.who,
  }))
  return [...moves, ...noted].sort((a, b) => Date.parse(a.at) - Date.parse(b.at))
}

/** Where a limit lies that was found, by its note; null where none was. */
export function boundaryOf(notes: Note[], kind: string): Boundary | null {
  const note = notes.find(
    (one) => one.kind === kind && ['strained', 'saturated'].includes(one.grade),
  )
  const found = note?.evidence as { at?: number; low?: number; high?: number } | undefined
  if (found?.at == null || found.low == null || found.high == null) return null
  return { value: found.at, low: found.low, high: found.high }
}

/** How far findings go that are made while a run goes on. */
export function knownSoFar(living: Run['living']): string {
  if (!living) return 'Nothing is known yet: no level is over.'
  if (!living.levels) return 'Nothing is known yet: no level was long enough to tell.'
  const pencil = living.notes.some((note) => !note.settled)
  return `So far, by ${counted(living.levels, 'level')} to ${clock(living.at_s)}${
    pencil ? '; what is grey a further level may still change' : ''
  }.`
}

/** Why there is nothing to draw. */
export function whyNothing(run: Run): string {
  if (!run.ended) return 'No request has been completed yet.'
  const gone = run.goes.seconds
  return gone && new Date(gone) < new Date()
    ? 'What it measured is gone: its system does not keep seconds any longer. The findings stand.'
    : 'This run recorded nothing.'
}
