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
  resource?: string
  utilisation?: string
  blur?: string
  for?: string
}
export interface JourneyDoc {
  journey?: string
  name?: string
  weight?: number
  steps?: { name?: string; enabled?: boolean }[]
}
export interface ActionDoc {
  call?: string
  command?: string
  body?: string
  headers?: Record<string, string>
  signed?: boolean
  expect?: string | number
  within?: string
}
export interface ReadyDoc {
  ask?: string
  expect?: number
  every?: string
  within?: string
}
export interface CandidateDoc {
  name?: string
  address?: string
  versions?: Record<string, string | number>
  types?: Record<string, unknown>
  setting?: string
  feeds?: Record<string, string>
  begin?: ActionDoc[]
  ready?: ReadyDoc
  end?: ActionDoc[]
}
export interface CandidatesDoc {
  blocks?: number
  matters?: string
  each?: CandidateDoc[]
  factor?: { name?: string; values?: CandidateDoc[] }
}
export interface DueDoc {
  at: string
  change: string
  values?: Record<string, string | number>
}

export type ScaledDoc =
  string | number | { value?: string | number; amount?: number; type?: Record<string, unknown> }
export interface ScalingDoc {
  of?: string
  component?: string
  change?: string
  also?: Record<string, string | number>
  values?: ScaledDoc[]
  rounds?: number
  back?: string | number
  load_grows?: boolean
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
  generators?: { when_lost?: string; price_per_hour?: number | string }
  timeline?: DueDoc[]
  candidates?: CandidatesDoc
  scaling?: ScalingDoc
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
  'timeline',
  'candidates',
  'scaling',
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
  /** All that is wrong below a path, as one text to compare. */
  faultsBelow: (path: string) => string
  /** Save what is there. */
  commit: () => void
}
const KEY: InjectionKey<PlanText> = Symbol('plan')

export function providePlan(
  source: Ref<string>,
  fixed: ComputedRef<boolean>,
  saved: Pick<PlanText, 'faultAt' | 'faultBelow' | 'faultsBelow' | 'commit'>,
): PlanText {
  const data = computed<PlanDoc | undefined>((before) => {
    const found = shared(before, dataOf(source.value))
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

/** The new value with every part that is as it was before being that very part: nothing of it is drawn anew. */
function shared(before: unknown, now: unknown): unknown {
  if (before === now || before === null || now === null) return now
  if (typeof before !== 'object' || typeof now !== 'object') return now
  if (Array.isArray(before) !== Array.isArray(now)) return now
  const [old, fresh] = [before as Record<string, unknown>, now as Record<string, unknown>]
  const keys = Object.keys(fresh)
  const made = Array.isArray(now) ? [] : {}
  let same = keys.length === Object.keys(old).length
  for (const key of keys) {
    const part = shared(old[key], fresh[key])
    ;(made as Record<string, unknown>)[key] = part
    same &&= part === old[key]
  }
  return same ? before : made
}

export const pathText = (path: Path) =>
  path.reduce<string>(
    (text, key) => (typeof key === 'number' ? `${text}[${key}]` : text ? `${text}.${key}` : key),
    '',
  )
