import { describe, expect, it } from 'vitest'
import { nextTick, ref } from 'vue'
import { ProblemError } from '@/api/problem'
import { useDraft, type Held } from './draft'

interface Doc {
  name: string
  notes?: string
  secret?: string
}
type Args = Parameters<typeof useDraft<Doc, Held>>

/** A draft over a server that answers when it is told to. */
function made(first: Doc) {
  const held = ref<Held | undefined>({ document: { ...first } })
  const sent: Record<string, unknown>[] = []
  const waiting: { done: (held: Held) => void; fail: (error: unknown) => void }[] = []
  const isError = ref(false)
  const error = ref<unknown>(null)
  const save = {
    mutateAsync: (document: Record<string, unknown>) => {
      sent.push(document)
      return new Promise<Held>((done, fail) => waiting.push({ done, fail }))
    },
    isError,
    error,
    reset: () => (isError.value = false),
  }
  const step = {
    mutateAsync: (way: string) => Promise.resolve({ document: { name: `after ${way}` } }),
  }
  const draft = useDraft<Doc, Held>(
    { data: held } as unknown as Args[0],
    save as unknown as Args[1],
    step as unknown as Args[2],
    ['name'],
    (own, saved) => (own.secret = saved.secret),
  )
  return { draft, sent, waiting, isError, error }
}
const settled = () => new Promise((resolve) => setTimeout(resolve))

describe('a document while it is edited', () => {
  it('is saved without empty fields, and takes back what the server hides', async () => {
    const { draft, sent, waiting } = made({ name: 'trams', notes: '', secret: 'hush' })
    void draft.commit()
    expect(draft.saving.value).toBe('saving')
    expect(sent).toEqual([{ name: 'trams', secret: 'hush' }])
    waiting[0]?.done({ document: { name: 'trams', secret: '(kept)' } })
    await settled()
    expect(draft.saving.value).toBe('saved')
    expect(draft.doc.value?.secret).toBe('(kept)')
  })

  it('sends a name that is empty, since it cannot be left out', () => {
    const { draft, sent } = made({ name: '' })
    void draft.commit()
    expect(sent).toEqual([{ name: '' }])
  })

  it('saves a change made meanwhile right after, and disturbs no typing', async () => {
    const { draft, sent, waiting } = made({ name: 'a' })
    void draft.commit()
    if (draft.doc.value) draft.doc.value.name = 'ab'
    void draft.commit()
    expect(sent).toHaveLength(1)
    waiting[0]?.done({ document: { name: 'a', secret: 'old' } })
    await settled()
    expect(sent.at(-1)).toEqual({ name: 'ab' })
    expect(draft.doc.value?.secret).toBeUndefined()
    waiting[1]?.done({ document: { name: 'ab' } })
    await settled()
    expect(draft.saving.value).toBe('saved')
  })

  it('keeps what was written when it is refused, and tells the fault at its place', async () => {
    const { draft, waiting, isError, error } = made({ name: 'a' })
    void draft.commit()
    const fault = { path: 'steps[1].keep[0]', message: 'x', mend: 'y' }
    error.value = new ProblemError({ status: 422, title: 't', detail: 'd', problems: [fault] })
    isError.value = true
    waiting[0]?.fail(error.value)
    await settled()
    expect(draft.saving.value).toBe('not saved')
    expect(draft.faultAt('steps[1].keep[0]')).toEqual(fault)
    expect(draft.faultAt('steps[1]')).toBeUndefined()
    expect(draft.faultBelow('steps[1]')).toEqual(fault)
    expect(draft.doc.value?.name).toBe('a')
    await draft.go('undo')
    await nextTick()
    expect(draft.doc.value?.name).toBe('after undo')
    expect(draft.faults.value).toEqual([])
  })
})
