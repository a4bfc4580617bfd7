import { mount } from '@vue/test-utils'
import { describe, expect, it } from 'vitest'
import { defineComponent, h, nextTick, ref } from 'vue'
import { ProblemError } from '@/api/problem'
import Field from './Field.vue'
import { hideKept, useDraft, type DraftBody, type Held } from './draft'

interface Doc {
  name: string
  notes?: string
  secret?: string
}
type Args = Parameters<typeof useDraft<Doc, Held>>

/** A page with a draft and a field for its notes, over a server that answers when it is told to. */
function made(first: Doc) {
  const held = ref<Held | undefined>({ document: { ...first }, revision: 1 })
  const sent: DraftBody[] = []
  const waiting: { done: (document: object) => void; fail: (error: unknown) => void }[] = []
  const steps: { way: string; base: number }[] = []
  const isError = ref(false)
  const error = ref<unknown>(null)
  let revision = 1
  const save = {
    mutateAsync: (given: DraftBody) => {
      sent.push(given)
      return new Promise<Held>((done, fail) => {
        const answer = (document: object) =>
          done({ document: document as Held['document'], revision: (revision += 1) })
        waiting.push({ done: answer, fail })
      })
    },
    isError,
    error,
    reset: () => (isError.value = false),
  }
  const step = {
    mutateAsync: (asked: { way: string; base: number }) => {
      steps.push(asked)
      return Promise.resolve({ document: { name: `after ${asked.way}` }, revision: 9 })
    },
  }
  let draft!: ReturnType<typeof useDraft<Doc, Held>>
  const page = mount(
    defineComponent({
      setup() {
        draft = useDraft<Doc, Held>(
          { data: held, refetch: () => undefined } as unknown as Args[0],
          save as unknown as Args[1],
          step as unknown as Args[2],
          ['name'],
        )
        return () =>
          h(Field, {
            label: 'Notes',
            modelValue: draft.doc.value?.notes,
            'onUpdate:modelValue': (text) => {
              if (draft.doc.value) draft.doc.value.notes = text as string
            },
            onDone: () => void draft.commit(),
          })
      },
    }),
  )
  return { draft, held, sent, waiting, steps, isError, error, page }
}
/** A key pressed: the field is not left by it. */
async function type(page: ReturnType<typeof made>['page'], text: string) {
  const field = page.find('input')
  field.element.value = text
  await field.trigger('input')
}
const settled = () => new Promise((resolve) => setTimeout(resolve))
const pause = () => new Promise((resolve) => setTimeout(resolve, 700))

describe('a document while it is edited', () => {
  it('is saved without empty fields, and takes back what the server hides', async () => {
    const { draft, sent, waiting } = made({ name: 'trams', notes: '', secret: 'hush' })
    void draft.commit()
    expect(draft.saving.value).toBe('saving')
    expect(sent[0]).toMatchObject({ document: { name: 'trams', secret: 'hush' }, base: 1 })
    waiting[0]?.done({ name: 'trams', secret: '(kept)' })
    await settled()
    expect(draft.saving.value).toBe('saved')
    expect(draft.doc.value?.secret).toBe('(kept)')
  })

  it('sends a name that is empty, since it cannot be left out', () => {
    const { draft, sent } = made({ name: '' })
    void draft.commit()
    expect(sent[0]?.document).toEqual({ name: '' })
  })

  it('saves a change made meanwhile right after, and disturbs no typing', async () => {
    const { draft, sent, waiting } = made({ name: 'a' })
    void draft.commit()
    if (draft.doc.value) draft.doc.value.name = 'ab'
    void draft.commit()
    expect(sent).toHaveLength(1)
    waiting[0]?.done({ name: 'a', secret: 'old' })
    await settled()
    expect(sent.at(-1)).toMatchObject({ document: { name: 'ab' }, base: 2 })
    expect(draft.doc.value?.secret).toBeUndefined()
    waiting[1]?.done({ name: 'ab' })
    await settled()
    expect(draft.saving.value).toBe('saved')
  })

  it('saves each of several quick changes, so that each can be undone alone', async () => {
    const { draft, sent, waiting, steps } = made({ name: 'a' })
    for (const name of ['a', 'ab', 'abc', 'ab']) {
      if (draft.doc.value) draft.doc.value.name = name
      void draft.commit()
    }
    const undone = draft.go('undo')
    for (const at of [0, 1, 2, 3]) {
      expect(steps).toEqual([])
      waiting[at]?.done({ name: 'a' })
      await settled()
    }
    await undone
    expect(sent.map((one) => one.document.name)).toEqual(['a', 'ab', 'abc', 'ab'])
    expect(sent.map((one) => one.base)).toEqual([1, 2, 3, 4])
    expect(steps).toEqual([{ way: 'undo', base: 5 }])
  })

  it('is stepped back only once what is under way has been saved', async () => {
    const { draft, waiting, steps } = made({ name: 'a' })
    void draft.commit()
    const undone = draft.go('undo')
    await settled()
    expect(steps).toEqual([])
    waiting[0]?.done({ name: 'a' })
    await undone
    expect(steps).toEqual([{ way: 'undo', base: 2 }])
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

describe('typing into a document', () => {
  it('is no longer saved from the first key on, and is at the next pause, as one change', async () => {
    const { draft, sent, waiting, page } = made({ name: 'a' })
    const field = page.find('input')
    await field.trigger('focus')
    await type(page, 'wri')
    expect(draft.saving.value).toBe('typing')
    expect(sent).toHaveLength(0)
    await pause()
    expect(sent[0]).toMatchObject({ document: { name: 'a', notes: 'wri' }, continues: false })
    await type(page, 'written')
    waiting[0]?.done({ name: 'a', notes: 'wri' })
    await settled()
    expect(draft.saving.value).toBe('typing')
    expect((field.element as HTMLInputElement).value).toBe('written')
    await pause()
    expect(sent[1]).toMatchObject({ document: { notes: 'written' }, base: 2, continues: true })
    waiting[1]?.done({ name: 'a', notes: 'written' })
    await settled()
    expect(draft.saving.value).toBe('saved')
    // Another stay in the field is another change.
    await field.trigger('change')
    await field.trigger('blur')
    await field.trigger('focus')
    await type(page, 'more')
    await pause()
    expect(sent).toHaveLength(3)
    expect(sent[2]).toMatchObject({ continues: false })
  })

  it('is sent when the page is left, hidden or taken away', async () => {
    for (const leave of [
      () => window.dispatchEvent(new Event('pagehide')),
      (page: { unmount: () => void }) => page.unmount(),
    ]) {
      const { sent, page } = made({ name: 'a' })
      await page.find('input').trigger('focus')
      await type(page, 'half a wo')
      leave(page)
      expect(sent.at(-1)?.document).toEqual({ name: 'a', notes: 'half a wo' })
      await pause()
      expect(sent).toHaveLength(1)
    }
  })

  it('is sent beside a save that is under way when the page is left', async () => {
    const { draft, sent, page } = made({ name: 'a' })
    void draft.commit()
    await type(page, 'late')
    window.dispatchEvent(new Event('pagehide'))
    expect(sent.at(-1)?.document).toEqual({ name: 'a', notes: 'late' })
  })
})

describe('a document that somebody else saves too', () => {
  const theirs = { name: 'a', notes: 'theirs' }
  const refused = (revision: number) =>
    new ProblemError({
      status: 409,
      title: 'Changed meanwhile',
      detail: 'berta saved this while you changed it.',
      problems: [],
      theirs,
      base: { name: 'a' },
      revision,
    })

  it("is shown as they left it while nothing of one's own is unsaved", async () => {
    const { draft, held } = made({ name: 'a' })
    held.value = { document: theirs, revision: 5 }
    await nextTick()
    expect(draft.doc.value).toEqual(theirs)
  })

  it('is put together from both where they differ elsewhere', async () => {
    const { draft, sent, waiting } = made({ name: 'a' })
    if (draft.doc.value) draft.doc.value.name = 'b'
    void draft.commit()
    waiting[0]?.fail(refused(7))
    await settled()
    expect(draft.outdated.value?.detail).toContain('berta')
    expect(draft.clashes.value).toEqual([])
    await draft.commit()
    expect(sent).toHaveLength(1)
    void draft.resolve('both')
    expect(sent.at(-1)).toMatchObject({ document: { name: 'b', notes: 'theirs' }, base: 7 })
  })

  it.each([
    ['mine', { name: 'a', notes: 'mine' }],
    ['both', { name: 'a', notes: 'mine' }],
    ['theirs', theirs],
  ] as const)('clashes, and is resolved: %s', async (choice, becomes) => {
    const { draft, waiting } = made({ name: 'a' })
    if (draft.doc.value) draft.doc.value.notes = 'mine'
    void draft.commit()
    waiting[0]?.fail(refused(7))
    await settled()
    expect(draft.clashes.value.map((clash) => clash.path)).toEqual(['notes'])
    void draft.resolve(choice)
    expect(draft.doc.value).toEqual(becomes)
    expect(draft.outdated.value).toBeNull()
  })
})

describe('what the server hides', () => {
  it('is taken over wherever it stands, and nothing else', () => {
    const own = { a: 'new', steps: [{ form: { password: 'hush', zone: 'A' } }] }
    hideKept(own, { a: 'old', steps: [{ form: { password: '(kept)', zone: 'B' } }, {}] })
    expect(own).toEqual({ a: 'new', steps: [{ form: { password: '(kept)', zone: 'A' } }] })
  })
})
