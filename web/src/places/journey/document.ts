/** A journey's document while it is edited. */
import { inject, provide, type InjectionKey } from 'vue'
import { useJourney, useSaveJourney, useStepBack } from '@/api/journeys'
import { useDraft } from '@/ui/draft'

export interface KeepDoc {
  name: string
  json?: string
  regex?: string
  header?: string
  cookie?: string
  field?: string
}

export interface CheckDoc {
  contains?: string
  lacks?: string
  matches?: string
  json?: string
  header?: string
  equals?: unknown
  exists?: boolean
  at_least_bytes?: number
  at_most_bytes?: number
  within?: string
}

export interface PartDoc {
  name: string
  value: string
  filename?: string
  content_type?: string
}

export interface StepDoc {
  name: string
  request: string
  headers?: Record<string, string>
  json?: unknown
  form?: Record<string, string>
  parts?: PartDoc[]
  body?: string
  accompanying?: string[]
  expect_status?: number[]
  redirects?: boolean
  keep?: KeepDoc[]
  checks?: CheckDoc[]
  time_limit?: string
  think?: { law?: string; mean: string; spread?: string } | string
  enabled?: boolean
  recorded?: number
}

export interface SessionDoc {
  cookies?: 'journey' | 'life'
  connections?: 'journey' | 'life'
  cache?: boolean
  user_agent?: string
  credentials?: { bearer?: string; user?: string; password?: string }
}

export interface ProofDoc {
  component?: string
  metric?: string
  address?: string
  json?: string
  regex?: string
  per_journey?: number
}

export interface JourneyDoc {
  name: string
  system?: string
  notes?: string
  feeds?: string[]
  session?: SessionDoc
  sample?: Record<string, string>
  proof?: ProofDoc
  steps?: StepDoc[]
}

const KEY: InjectionKey<ReturnType<typeof useDocument>> = Symbol('journey document')

/** The document of a journey, shared with every form below. */
export function useDocument(id: number) {
  const journey = useJourney(id)
  const draft = useDraft<JourneyDoc, NonNullable<typeof journey.data.value>>(
    journey,
    useSaveJourney(id),
    useStepBack(id),
    ['name'],
  )
  const shared = { ...draft, journey }
  provide(KEY, shared)
  return shared
}

export function useSharedJourney() {
  const shared = inject(KEY)
  if (!shared) throw new Error('there is no journey document above')
  return shared
}
