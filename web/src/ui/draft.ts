/** A document while it is edited: saved while one types, undone step by step. */
import type { UseMutationReturnType, UseQueryReturnType } from '@tanstack/vue-query'
import { useEventListener } from '@vueuse/core'
import { computed, inject, onBeforeUnmount, provide, ref, watch } from 'vue'
import type { InjectionKey, Ref } from 'vue'
import type { Schemas } from '@/api/client'
import { asProblem, type Fault, type Problem } from '@/api/problem'
import { merged, type Clash } from './merge'

export type Saving = 'saved' | 'typing' | 'saving' | 'not saved'
export type DraftBody = Schemas['DraftBody']
/** A way through the revisions, from the one that is shown. */
export interface Step {
  way: 'undo' | 'redo'
  base: number
}

/** A document as it was when it was to be saved, and the field that was typed into. */
interface Taken {
  document: Record<string, unknown>
  typed: object | null
}

export interface Held {
  document: Record<string, unknown>
  revision: number
}

type Query<D> = UseQueryReturnType<D, Error>
type Change<D, G> = UseMutationReturnType<D, Error, G, unknown>

/** Names this open page to the server: what it saved itself is no change by somebody else. */
const EDITOR = `${Date.now().toString(36)}-${Math.random().toString(36).slice(2, 12)}`
const KEPT = '(kept)'

/** What a field tells the document around it while somebody types into it. */
export interface Typing {
  /** There is text that is not in the document yet. `field` stands for one stay in one field. */
  begun: (field: object, flush: () => void) => void
  /** The field is left, or its text is in the document. */
  settled: (field: object) => void
  left: () => void
}
const TYPING: InjectionKey<Typing> = Symbol('typing')
export const useTyping = () => inject(TYPING, null)

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

/** Take over what the server hides of a saved document (secrets), and nothing else. */
export function hideKept(own: unknown, saved: unknown): void {
  if (own === null || saved === null || typeof own !== 'object' || typeof saved !== 'object') return
  const mine = own as Record<string, unknown>
  for (const [key, value] of Object.entries(saved as Record<string, unknown>)) {
    if (typeof value === 'string' && value.includes(KEPT) && mine[key]) mine[key] = value
    else hideKept(mine[key], value)
  }
}

/**
 * The document of what a query holds. `required` names fields that cannot be left out, only be
 * wrong.
 */
export function useDraft<Doc extends object, D extends Held>(
  query: Query<D>,
  save: Change<D, DraftBody>,
  step: Change<D, Step>,
  required: (keyof Doc)[],
) {
  const doc = ref(null) as Ref<Doc | null>
  const saving = ref<Saving>('saved')
  const outdated = ref<Problem | null>(null)
  const flushes = new Map<object, () => void>()
  const waiting: Taken[] = []
  let base = 0
  let field: object | null = null
  let savedField: object | null = null
  let underWay: Promise<void> = Promise.resolve()

  function take(held: Held) {
    doc.value = JSON.parse(JSON.stringify(held.document)) as Doc
    base = held.revision
    saving.value = 'saved'
    outdated.value = null
    savedField = null
  }
  watch(
    () => query.data.value,
    (held) => {
      // What somebody else saved is shown, unless there is something of one's own to lose.
      const quiet = saving.value === 'saved' && !flushes.size && field === null
      if (held && (doc.value === null || (quiet && held.revision !== base))) take(held)
    },
    { immediate: true },
  )

  function current(): Taken {
    const document = pruned(doc.value) as Record<string, unknown>
    for (const name of required) document[name as string] = doc.value?.[name]
    return { document: JSON.parse(JSON.stringify(document)) as typeof document, typed: field }
  }

  /**
   * Save what is there. What is changed while a save is under way waits for its turn, each change
   * as one of its own, so that each can be undone alone; only the keys of one field are one.
   */
  function commit(): Promise<void> {
    if (!doc.value || outdated.value) return Promise.resolve()
    const taken = current()
    if (saving.value !== 'saving') return (underWay = sendNow(taken))
    if (taken.typed !== null && waiting.at(-1)?.typed === taken.typed) waiting.pop()
    waiting.push(taken)
    return underWay
  }

  async function sendNow({ document, typed }: Taken): Promise<void> {
    saving.value = 'saving'
    const continues = typed !== null && typed === savedField
    try {
      const answer = await save.mutateAsync({ document, base, editor: EDITOR, continues })
      base = answer.revision
      savedField = typed
      saving.value = flushes.size ? 'typing' : 'saved'
      if (!waiting.length) hideKept(doc.value, answer.document)
    } catch (error) {
      saving.value = 'not saved'
      const problem = asProblem(error)
      if (problem.status === 409 && problem.theirs !== undefined) {
        outdated.value = problem
        waiting.length = 0
      }
    }
    const next = waiting.shift()
    if (next) await sendNow(next)
  }

  async function go(way: 'undo' | 'redo') {
    flush()
    await underWay
    const answer = await step.mutateAsync({ way, base }).catch((error: unknown) => {
      const problem = asProblem(error)
      if (problem.theirs !== undefined) outdated.value = problem
      return null
    })
    if (!answer) return
    take(answer)
    save.reset()
  }

  /** Take what stands in fields into the document now, and send it. */
  function flush() {
    for (const one of [...flushes.values()]) one()
  }
  provide(TYPING, {
    begun(one, take) {
      field = one
      flushes.set(one, take)
      if (saving.value === 'saved') saving.value = 'typing'
    },
    settled: (one) => void flushes.delete(one),
    left: () => void (field = null),
  })
  onBeforeUnmount(flush)
  useEventListener(window, 'pagehide', () => {
    flush()
    // What waits for an answer would wait for ever: the last of it is sent beside.
    const last = waiting.at(-1)
    if (!last) return
    waiting.length = 0
    void save.mutateAsync({ document: last.document, base, editor: EDITOR, continues: true })
  })
  useEventListener(document, 'visibilitychange', () => {
    if (document.visibilityState === 'hidden') flush()
  })

  /** Mine and theirs together, once somebody else saved meanwhile. */
  const both = computed(() => {
    const found = outdated.value
    return found ? merged(found.base ?? undefined, pruned(doc.value), found.theirs) : null
  })
  async function resolve(choice: 'both' | 'mine' | 'theirs') {
    const found = outdated.value
    if (typeof found?.theirs !== 'object' || found.revision === undefined) return
    const together = both.value?.document
    const own = doc.value
    take({ document: found.theirs, revision: found.revision })
    save.reset()
    if (choice === 'theirs') return void query.refetch()
    doc.value = (choice === 'both' ? JSON.parse(JSON.stringify(together)) : own) as Doc
    await commit()
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
  const clashes = computed<Clash[]>(() => both.value?.clashes ?? [])
  return {
    doc,
    query,
    save,
    saving,
    outdated,
    clashes,
    resolve,
    faults,
    faultAt,
    faultBelow,
    commit,
    go,
  }
}
