/** The groups of a plan, whichever of its two forms it has, and changes between them. */
import type { Path } from '@/ui/yamlText'
import { drawn, fieldsOf, verbOf, type Drawn, type Sentence, type Unit } from './load'
import type { GroupDoc, PlanDoc } from './plan'

export interface Chapter {
  name: string
  unit: Unit
  sentences: Sentence[]
  lines: Drawn[]
  /** Where its sentences stand, and the group itself; null for the short form. */
  path: Path
  group: GroupDoc | null
  at: Path | null
}

export const EVERYONE = 'everyone'
const isList = (value: unknown): value is Sentence[] =>
  Array.isArray(value) && value.every((s) => s !== null && typeof s === 'object')

export function chaptersOf(plan: PlanDoc): Chapter[] {
  const chapter = (
    name: string,
    unit: Unit,
    told: unknown,
    path: Path,
    group: GroupDoc | null,
    at: Path | null,
  ): Chapter => {
    const sentences = isList(told) ? told : []
    return { name, unit, sentences, lines: drawn(sentences, unit), path, group, at }
  }
  if (!Array.isArray(plan.groups))
    return [chapter(EVERYONE, 'users', plan.load, ['load'], null, null)]
  return plan.groups.map((group, i) => {
    const arrives = group.arrivals !== undefined
    return chapter(
      String(group.name ?? `group ${i + 1}`),
      arrives ? 'rate' : 'users',
      arrives ? group.arrivals : group.users,
      ['groups', i, arrives ? 'arrivals' : 'users'],
      group,
      ['groups', i],
    )
  })
}

/** The text with its one load as the first of its groups: what stands around its sentences stays. */
export function asGroups(text: string): string | null {
  const lines = text.split('\n')
  const first = lines.findIndex((line) => /^load:\s*(#.*)?$/.test(line))
  if (first < 0) return null
  let end = first + 1
  while (end < lines.length && /^(\s|-|#|$)/.test(lines[end] ?? '')) end += 1
  while (end > first + 1 && !(lines[end - 1] ?? '').trim()) end -= 1
  const inside = lines.slice(first + 1, end).map((line) => (line.trim() ? `    ${line}` : line))
  const comment = (lines[first] ?? '').replace(/^load:/, '')
  const head = [`groups:${comment}`, `  - name: ${EVERYONE}`, '    users:']
  return [...lines.slice(0, first), ...head, ...inside, ...lines.slice(end)].join('\n')
}

/** A load in users as one in arrivals, and the other way round: the same figures in another unit. */
export function inUnit(sentences: Sentence[], unit: Unit): Sentence[] {
  const [from, to] = unit === 'rate' ? (['users', 'rate'] as const) : (['rate', 'users'] as const)
  const made = sentences
    .filter((sentence) => verbOf(sentence) !== 'gather')
    .map((sentence) => {
      if (verbOf(sentence) !== 'hold') return sentence
      const { [from]: amount, ...rest } = fieldsOf(sentence)
      const whole =
        unit === 'users' && typeof amount === 'number' ? Math.max(1, Math.round(amount)) : amount
      return { hold: amount === undefined ? rest : { [to]: whole, ...rest } }
    })
  return made.length ? made : [{ hold: { [to]: 1, for: '1 min' } }]
}
