/** A document while it is edited: saved as one goes, undone step by step. */
import type { UseMutationReturnType, UseQueryReturnType } from '@tanstack/vue-query'
import { computed, ref, watch, type Ref } from 'vue'
import { asProblem, type Fault } from '@/api/problem'

export type Saving = 'saved' | 'saving' | 'not saved'

export interface Held {
  document: Record<string, unknown>
}

type Query<D> = UseQueryReturnType<D, Error>
type Change<D, G> = UseMutationReturnType<D, Error, G, unknown>

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

/**
 * The document of what a query holds. `required` names fields that cannot be left out, only be
 * wrong; `takeBack` takes over what the server changed in what was saved (secrets it hides).
 */
export function useDraft<Doc extends object, D extends Held>(
  query: Query<D>,
  save: Change<D, Record<string, unknown>>,
  step: Change<D, 'undo' | 'redo'>,
  required: (keyof Doc)[],
  takeBack: (own: Doc, saved: Doc) => void,
) {
  const doc = ref(null) as Ref<Doc | null>
  const saving = ref<Saving>('saved')
  let wanted = false

  function take(document: unknown) {
    doc.value = JSON.parse(JSON.stringify(document)) as Doc
  }
  watch(
    () => query.data.value?.document,
    (document) => {
      if (document && doc.value === null) take(document)
    },
    { immediate: true },
  )

  /** Save what is there; a change made meanwhile is saved right after. */
  async function commit(): Promise<void> {
    if (!doc.value) return
    if (saving.value === 'saving') {
      wanted = true
      return
    }
    saving.value = 'saving'
    const sent = pruned(doc.value) as Record<string, unknown>
    for (const field of required) sent[field as string] = doc.value[field]
    try {
      const answer = await save.mutateAsync(sent)
      saving.value = 'saved'
      if (!wanted && doc.value) takeBack(doc.value, answer.document as Doc)
    } catch {
      saving.value = 'not saved'
    }
    if (wanted) {
      wanted = false
      await commit()
    }
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
  /** What is wrong anywhere below this path. */
  function faultBelow(path: string): Fault | undefined {
    return faults.value.find((fault) => fault.path.startsWith(path))
  }
  return { doc, query, save, saving, faults, faultAt, faultBelow, commit, go }
}
