/** The table of steps as people arrange it: sought, sorted, folded. */
import type { Schemas } from '@/api/client'

export type StepLine = Schemas['StepLine']
export type Column =
  | 'name' | 'count' | 'rate' | 'mean_s' | 'p50_s' | 'p95_s' | 'p99_s'
  | 'least_s' | 'most_s' | 'deviation_s' | 'errors' | 'error_share' | 'received' // prettier-ignore

export const COLUMNS: { id: Column; head: string }[] = [
  { id: 'name', head: 'Step' },
  { id: 'count', head: 'Done' },
  { id: 'rate', head: 'Per s' },
  { id: 'mean_s', head: 'Mean' },
  { id: 'p50_s', head: 'p50' },
  { id: 'p95_s', head: 'p95' },
  { id: 'p99_s', head: 'p99' },
  { id: 'error_share', head: 'Errors' },
]
/** Those that stand right of the objective and the small picture. */
export const FURTHER: { id: Column; head: string }[] = [
  { id: 'least_s', head: 'Least' },
  { id: 'most_s', head: 'Most' },
  { id: 'deviation_s', head: 'Deviation' },
  { id: 'errors', head: 'Failed' },
  { id: 'received', head: 'Received' },
]

export interface Arrangement {
  sought: string
  by: Column
  falling: boolean
  folded: ReadonlySet<string>
}

export type Arranged = StepLine & {
  /** Shown below the journey it belongs to. */
  within: boolean
  /** Steps stand below it. */
  steps: boolean
}

/** By name, in the order of the plan with steps below their journeys; by a figure, all steps in its order. */
export function arranged(lines: StepLine[], how: Arrangement): Arranged[] {
  const wanted = how.sought.trim().toLowerCase()
  const found = (line: StepLine) => line.name.toLowerCase().includes(wanted)
  if (how.by !== 'name') {
    const column = how.by
    const sorted = lines
      .filter((line) => line.kind === 'step' && found(line))
      .toSorted((a, b) => compared(a[column], b[column], how.falling))
    const all = lines.filter((line) => line.kind === 'all' && !wanted)
    return [...all, ...sorted].map((line) => ({ ...line, within: false, steps: false }))
  }
  const tops = lines.filter((line) => !line.under)
  const ordered = how.falling ? [...tops].reverse() : tops
  return ordered.flatMap((top) => {
    const under = lines.filter((line) => line.under === top.id)
    const open = wanted !== '' || !how.folded.has(top.id)
    const inside = under.filter((line) => found(line) || (wanted !== '' && found(top)))
    if (wanted && !found(top) && !inside.length) return []
    return [
      { ...top, within: false, steps: under.length > 0 },
      ...(open ? inside.map((line) => ({ ...line, within: true, steps: false })) : []),
    ]
  })
}

/** What is not known comes last, whichever way. */
function compared(a: number | null, b: number | null, falling: boolean): number {
  if (a === null || b === null) return Number(a === null) - Number(b === null)
  return falling ? b - a : a - b
}
