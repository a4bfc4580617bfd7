/** A system's document while it is edited: saved as one goes, undone step by step. */
import { computed, inject, provide, ref, watch, type InjectionKey, type Ref } from 'vue'
import { asProblem, type Fault } from '@/api/problem'
import { useSaveSystem, useStep, useSystem } from '@/api/systems'

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
  components?: ComponentDoc[]
}

export type Saving = 'saved' | 'saving' | 'not saved'

/** Without what was left empty: an empty field is one that is not there. */
export function pruned(value: unknown): unknown {
  if (Array.isArray(value)) return value.map(pruned)
  if (value === null || typeof value !== 'object') return value
  const kept = Object.entries(value)
    .map(([key, item]) => [key, pruned(item)] as const)
    .filter(([, item]) => !isEmpty(item))
  return Object.fromEntries(kept)
}

function isEmpty(value: unknown): boolean {
  if (value === undefined || value === null || value === '') return true
  if (Array.isArray(value)) return value.length === 0
  return typeof value === 'object' && Object.keys(value as object).length === 0
}

const KEY: InjectionKey<ReturnType<typeof useDocument>> = Symbol('system document')

/** The document of a system, shared with every form below. */
export function useDocument(id: number) {
  const system = useSystem(id)
  const save = useSaveSystem(id)
  const step = useStep(id)
  const doc: Ref<SystemDoc | null> = ref(null)
  const saving = ref<Saving>('saved')
  let wanted = false

  function take(document: unknown) {
    doc.value = JSON.parse(JSON.stringify(document)) as SystemDoc
  }
  watch(
    () => system.data.value?.document,
    (document) => {
      if (document && doc.value === null) take(document)
    },
    { immediate: true },
  )

  /** Save what is there; a change made meanwhile is saved right after. */
  async function commit() {
    if (!doc.value) return
    if (saving.value === 'saving') {
      wanted = true
      return
    }
    saving.value = 'saving'
    const sent = pruned(doc.value) as Record<string, unknown>
    // A name cannot be left out, only be wrong.
    const document = { ...sent, name: doc.value.name, base_url: doc.value.base_url }
    try {
      const answer = await save.mutateAsync(document)
      saving.value = 'saved'
      if (!wanted) hideSecrets(answer.document)
    } catch {
      saving.value = 'not saved'
    }
    if (wanted) {
      wanted = false
      await commit()
    }
  }

  /** Take over only what the server hides, so that nobody's typing is disturbed. */
  function hideSecrets(document: unknown) {
    const components = (document as SystemDoc).components ?? []
    components.forEach((component, i) =>
      component.meters?.forEach((meter, j) => {
        const own = doc.value?.components?.[i]?.meters?.[j]
        if (own && meter.credentials) own.credentials = { ...meter.credentials }
      }),
    )
  }

  async function go(way: 'undo' | 'redo') {
    const answer = await step.mutateAsync(way).catch(() => null)
    if (!answer) return
    take(answer.document)
    saving.value = 'saved'
    save.reset()
  }

  const faults = computed<Fault[]>(() =>
    saving.value === 'not saved' && save.isError.value ? asProblem(save.error.value).problems : [],
  )
  /** What is wrong with the field at this path of the document. */
  function faultAt(path: string): Fault | undefined {
    return faults.value.find((fault) => fault.path === path)
  }

  const shared = { doc, system, save, saving, faults, faultAt, commit, go }
  provide(KEY, shared as never)
  return shared
}

export function useSharedDocument() {
  const shared = inject(KEY)
  if (!shared) throw new Error('there is no system document above')
  return shared
}
