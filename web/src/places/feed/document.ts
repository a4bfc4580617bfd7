/** A feed's document while it is edited. */

export interface ColumnDoc {
  name: string
  sequence?: { from?: number; by?: number; digits?: number; prefix?: string }
  one_of?: string[]
  person?: { part?: string; language?: string }
  number?: {
    law?: string
    from?: number
    to?: number
    mean?: number
    deviation?: number
    decimals?: number
  }
}

export interface RecipeDoc {
  rows: number
  seed?: number
  columns: ColumnDoc[]
}

export interface FeedDoc {
  name: string
  notes?: string
  csv?: string
  make?: RecipeDoc
  file?: { digest: string; columns: string[]; rows: number; filename?: string }
  take?: string
  end?: string
}

export type Kind = 'sequence' | 'one_of' | 'person' | 'number'

export const kinds: { value: Kind; text: string }[] = [
  { value: 'sequence', text: 'numbers in sequence' },
  { value: 'one_of', text: 'any of a list' },
  { value: 'person', text: "people's names" },
  { value: 'number', text: 'random numbers' },
]
export const languages = [
  'English',
  'German',
  'French',
  'Spanish',
  'Swedish',
  'Turkish',
  'Arabic',
  'Japanese',
]

export function kindOf(column: ColumnDoc): Kind {
  return kinds.find(({ value }) => column[value] !== undefined)?.value ?? 'sequence'
}

/** A column of a kind, with values to begin from. */
export function columnOf(name: string, kind: Kind): ColumnDoc {
  if (kind === 'one_of') return { name, one_of: ['A', 'B', 'C'] }
  if (kind === 'person') return { name, person: { part: 'full', language: 'English' } }
  if (kind === 'number') return { name, number: { law: 'uniform', from: 1, to: 100 } }
  return { name, sequence: { from: 1 } }
}

/** Random numbers of another law: its own parameters and no others. */
export function numberOf(law: string, before: NonNullable<ColumnDoc['number']>) {
  const decimals = before.decimals === undefined ? {} : { decimals: before.decimals }
  if (law === 'uniform') return { law, from: before.from ?? 1, to: before.to ?? 100, ...decimals }
  const mean = before.mean ?? 50
  if (law === 'exponential') return { law, mean, ...decimals }
  return { law, mean, deviation: before.deviation ?? mean / 4, ...decimals }
}

/** What a document leaves out because it is the usual, so that no kind of column stands empty. */
export function completed(doc: FeedDoc): void {
  for (const column of doc.make?.columns ?? []) {
    if (column.sequence) column.sequence.from ??= 1
    if (column.person) column.person.part ??= 'full'
    if (column.number) column.number.law ??= 'uniform'
  }
}

/** What comes of so many rows for so many users; nothing if each may have one. */
export function shortage(rows: number, users: number, take = 'in order', end = 'start over') {
  if (!rows || rows >= users || take === 'at random') return ''
  if (end === 'retire') return 'users retire once it is used up'
  return take === 'one per user' ? 'several users share a row' : ''
}
