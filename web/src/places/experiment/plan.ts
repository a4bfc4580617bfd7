/** A plan's text while it is edited: read once, changed in place by every form. */
import { computed, inject, provide, type ComputedRef, type InjectionKey, type Ref } from 'vue'
import type { Fault } from '@/api/problem'
import { dataOf, insertItem, moveItem, put, removeItem, type Path } from '@/ui/yamlText'
import type { Sentence } from './load'

export interface GroupDoc {
  name?: string
  users?: Sentence[]
  arrivals?: Sentence[]
  mix?: Record<string, unknown>
  region?: string
  regions?: Record<string, number>
  network?: Record<string, unknown>
  journeys_each?: number
  leave?: string
  law?: string
  at_most?: number
  connections?: string
}
export interface GoalDoc {
  step?: string
  errors?: string
  within?: string
  percentile?: number
  [percentile: string]: unknown
}
export interface StopDoc {
  step?: string
  errors?: string
  response?: string
  for?: string
}
export interface JourneyDoc {
  journey?: string
  name?: string
  weight?: number
  steps?: { name?: string; enabled?: boolean }[]
}
export interface PlanDoc {
  name?: string
  question?: string
  hypothesis?: string
  notes?: string
  tags?: string[]
  system?: string | { name?: string }
  journeys?: JourneyDoc[]
  waits?: { factor?: number; think?: string }
  load?: Sentence[]
  groups?: GroupDoc[]
  objectives?: GoalDoc[]
  stop_when?: StopDoc[]
  budget?: { time?: string; money?: number }
  error_limit?: string
  generators?: { when_lost?: string }
}

/** The fields of a plan in the order in which people write them. */
export const ORDER = [
  'name',
  'question',
  'hypothesis',
  'notes',
  'tags',
  'system',
  'feeds',
  'journeys',
  'waits',
  'load',
  'groups',
  'generators',
  'objectives',
  'stop_when',
  'budget',
  'error_limit',
]

export interface PlanText {
  /** What the text says; undefined while it cannot be read. */
  data: ComputedRef<PlanDoc | undefined>
  fixed: ComputedRef<boolean>
  set: (path: Path, value: unknown) => void
  insert: (list: Path, index: number, value: unknown) => void
  remove: (list: Path, index: number) => void
  move: (list: Path, from: number, to: number) => void
  faultAt: (path: string) => Fault | undefined
  faultBelow: (path: string) => Fault | undefined
  /** Save what is there. */
  commit: () => void
}
const KEY: InjectionKey<PlanText> = Symbol('plan')

export function providePlan(
  source: Ref<string>,
  fixed: ComputedRef<boolean>,
  saved: Pick<PlanText, 'faultAt' | 'faultBelow' | 'commit'>,
): PlanText {
  const data = computed(() => {
    const found = dataOf(source.value)
    return found !== null && typeof found === 'object' && !Array.isArray(found)
      ? (found as PlanDoc)
      : undefined
  })
  const plan: PlanText = {
    data,
    fixed,
    set: (path, value) => (source.value = put(source.value, path, value, ORDER)),
    insert: (list, index, value) => (source.value = insertItem(source.value, list, index, value)),
    remove: (list, index) => (source.value = removeItem(source.value, list, index)),
    move: (list, from, to) => (source.value = moveItem(source.value, list, from, to)),
    ...saved,
  }
  provide(KEY, plan)
  return plan
}

export function usePlan(): PlanText {
  const plan = inject(KEY)
  if (!plan) throw new Error('There is no plan around this.')
  return plan
}

export const pathText = (path: Path) =>
  path.reduce<string>(
    (text, key) => (typeof key === 'number' ? `${text}[${key}]` : text ? `${text}.${key}` : key),
    '',
  )
