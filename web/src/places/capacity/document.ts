/** A capacity plan's document while it is edited. */
import { useCapacityPlan, useSaveCapacityPlan, useStepCapacityPlan } from '@/api/capacity'
import { useDraft } from '@/ui/draft'

export interface PeakDoc {
  on: string
  load: number
  note?: string
}

export interface SizeDoc {
  component: string
  name: string
  times: number
  price_per_hour: number
}

export interface CapacityDoc {
  name: string
  system: string
  runs?: number[]
  counted_in?: 'users' | 'steps'
  peaks: PeakDoc[]
  growth?: { by: string; until: string }
  headroom?: string
  uncertain?: string
  lost?: number
  think?: string
  mix?: Record<string, number>
  least?: Record<string, number>
  sizes?: SizeDoc[]
  notes?: string
}

export function useCapacityDocument(id: number) {
  const plan = useCapacityPlan(id)
  const draft = useDraft<CapacityDoc, NonNullable<typeof plan.data.value>>(
    plan,
    useSaveCapacityPlan(id),
    useStepCapacityPlan(id),
    ['name', 'system', 'peaks'],
  )
  return { ...draft, plan }
}

/** A day so many after another one, or after today where that is none: 2027-05-01. */
export function later(day: string | undefined, days: number): string {
  const begun = Date.parse(`${day ?? ''}T00:00:00Z`)
  const from = Number.isFinite(begun) ? begun : Date.now()
  return new Date(from + days * 86_400_000).toISOString().slice(0, 10)
}
