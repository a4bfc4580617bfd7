/** Pieces of a step as people write them in a field, and back. */
import type { CheckDoc, KeepDoc, StepDoc } from './document'

export type BodyKind = 'none' | 'json' | 'form' | 'parts' | 'raw'

export function bodyKind(step: StepDoc): BodyKind {
  if (step.json !== undefined) return 'json'
  if (step.form !== undefined) return 'form'
  if (step.parts !== undefined) return 'parts'
  return step.body !== undefined ? 'raw' : 'none'
}

/** The step with a body of another kind, its request made one that can carry it. */
export function withBody(step: StepDoc, kind: BodyKind): StepDoc {
  const rest: StepDoc = { ...step }
  delete rest.json
  delete rest.form
  delete rest.parts
  delete rest.body
  const carries = kind !== 'none' && /^(GET|HEAD|OPTIONS) /.test(rest.request)
  if (carries) rest.request = rest.request.replace(/^\w+/, 'POST')
  if (kind === 'json') return { ...rest, json: { name: 'value' } }
  if (kind === 'form') return { ...rest, form: { name: 'value' } }
  if (kind === 'parts') return { ...rest, parts: [{ name: 'name', value: 'value' }] }
  return kind === 'raw' ? { ...rest, body: 'text' } : rest
}

/** "Name: value" or "name=value", a line each. */
export function pairsText(pairs: Record<string, string> | undefined, between: string): string {
  return Object.entries(pairs ?? {})
    .map(([name, value]) => `${name}${between}${value}`)
    .join('\n')
}

export function pairsFrom(text: string, between: string): Record<string, string> | undefined {
  const mark = between.trim()
  const pairs = text
    .split('\n')
    .filter((line) => line.includes(mark))
    .map((line) => {
      const at = line.indexOf(mark)
      return [line.slice(0, at).trim(), line.slice(at + mark.length).trim()] as const
    })
    .filter(([name]) => name)
  return pairs.length ? Object.fromEntries(pairs) : undefined
}

export function linesFrom(text: string): string[] | undefined {
  const lines = text.split(/\s+/).filter(Boolean)
  return lines.length ? lines : undefined
}

export function statusesFrom(text: string): number[] | undefined {
  const found = text
    .split(/[\s,]+/)
    .map(Number)
    .filter((n) => n > 0)
  return found.length ? found : undefined
}

export function thinkText(think: StepDoc['think']): string {
  if (think === undefined || typeof think === 'string') return think ?? ''
  const law = think.law ?? 'exponential'
  if (law === 'fixed') return think.mean
  // A uniform law reads best by its ends, which only the server can tell in their units.
  return law === 'uniform'
    ? `uniform ${think.mean} ± ${think.spread ?? '0 s'}`
    : `${law} ${think.mean}`
}

/** What was written as a think time; "uniform 3 s ± 1 s" stays the law it stood for. */
export function thinkFrom(text: string): StepDoc['think'] {
  const spread = /^uniform (.+) ± (.+)$/.exec(text.trim())
  if (spread) return { law: 'uniform', mean: spread[1] ?? '', spread: spread[2] ?? '' }
  return text.trim() || undefined
}

export const KEEP_SOURCES = ['field', 'json', 'regex', 'header', 'cookie'] as const
export type KeepSource = (typeof KEEP_SOURCES)[number]

export function keepSource(keep: KeepDoc): KeepSource {
  return KEEP_SOURCES.find((source) => keep[source] !== undefined) ?? 'field'
}

export type CheckKind =
  | 'contains'
  | 'lacks'
  | 'matches'
  | 'json equals'
  | 'json exists'
  | 'header equals'
  | 'header exists'
  | 'at_least_bytes'
  | 'at_most_bytes'
  | 'within'

export function checkKind(check: CheckDoc): CheckKind {
  if (check.json !== undefined) return check.exists !== undefined ? 'json exists' : 'json equals'
  if (check.header !== undefined)
    return check.exists !== undefined ? 'header exists' : 'header equals'
  const plain = [
    'contains',
    'lacks',
    'matches',
    'at_least_bytes',
    'at_most_bytes',
    'within',
  ] as const
  return plain.find((kind) => check[kind] !== undefined) ?? 'contains'
}

export function newCheck(kind: CheckKind): CheckDoc {
  switch (kind) {
    case 'json equals':
      return { json: '$.name', equals: 'value' }
    case 'json exists':
      return { json: '$.name', exists: true }
    case 'header equals':
      return { header: 'Content-Type', equals: 'value' }
    case 'header exists':
      return { header: 'Content-Type', exists: true }
    case 'at_least_bytes':
    case 'at_most_bytes':
      return { [kind]: 1000 }
    case 'within':
      return { within: '1 s' }
    default:
      return { [kind]: 'text' }
  }
}
