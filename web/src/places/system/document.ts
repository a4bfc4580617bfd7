/** A system's document while it is edited. */
import { inject, provide, type InjectionKey } from 'vue'
import { useSaveSystem, useStep, useSystem } from '@/api/systems'
import { useDraft } from '@/ui/draft'

export interface ResourceDoc {
  name: string
  kind: string
  metric: string
  unit?: string
  labels?: Record<string, string>
  direction?: 'used' | 'free'
  capacity?: number
  capacity_metric?: string
  capacity_from?: string
  waiting_metric?: string
}

export interface CredentialsDoc {
  bearer?: string
  user?: string
  password?: string
}

export interface MeterDoc {
  openmetrics?: string[]
  otlp?: string
  server_timing?: string
  labels?: Record<string, string>
  credentials?: CredentialsDoc
  resources?: ResourceDoc[]
}

export interface ChangeDoc {
  name: string
  does: { call: string; body?: string; signed?: boolean; headers?: Record<string, string> }
  ready?: { ask: string; every?: string; within?: string } | undefined
  probe?: { ask: string; every?: string; within?: string; first?: number } | undefined
}

export interface OperationsDoc {
  address: string
  credentials?: CredentialsDoc
  signing_key?: string
  changes?: ChangeDoc[]
}

export interface InstanceTypeDoc {
  name?: string
  vcpus?: number
  memory?: string
  price_per_hour?: number
}

export interface ComponentDoc {
  name: string
  role?: string
  instances?: number
  instance_type?: InstanceTypeDoc
  version?: string
  notes?: string
  calls?: string[]
  meters?: MeterDoc[]
}

export interface SystemDoc {
  name: string
  base_url: string
  currency?: string
  notes?: string
  operations?: OperationsDoc
  components?: ComponentDoc[]
}

const KEY: InjectionKey<ReturnType<typeof useDocument>> = Symbol('system document')

/** The document of a system, shared with every form below. */
export function useDocument(id: number) {
  const system = useSystem(id)
  const draft = useDraft<SystemDoc, NonNullable<typeof system.data.value>>(
    system,
    useSaveSystem(id),
    useStep(id),
    ['name', 'base_url'],
  )
  const shared = { ...draft, system }
  provide(KEY, shared)
  return shared
}

export function useSharedDocument() {
  const shared = inject(KEY)
  if (!shared) throw new Error('there is no system document above')
  return shared
}
