import { QueryClient, VueQueryPlugin } from '@tanstack/vue-query'
import { mount } from '@vue/test-utils'
import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest'
import { defineComponent, h } from 'vue'
import { api } from './client'
import { useJob } from './jobs'

/** A component that has a job, and the server's answers about it one after the other. */
function made(answers: Record<string, unknown>[]) {
  const rest = { text: 'Reading', done: 0, total: 0, outcome: null, problem: null, id: 7 }
  const asked = vi.spyOn(api, 'GET').mockImplementation((() =>
    Promise.resolve({
      data: { ...rest, ...(answers.shift() ?? { state: 'working' }) },
    })) as never)
  const ended = vi.spyOn(api, 'DELETE').mockResolvedValue({} as never)
  const begin = vi.fn(() => Promise.resolve({ job: 7 }))
  let job!: ReturnType<typeof useJob<string, 'journey'>>
  const page = mount(
    defineComponent({
      setup() {
        job = useJob(begin, 'journey') as unknown as typeof job
        return () => h('p')
      },
    }),
    { global: { plugins: [[VueQueryPlugin, { queryClient: new QueryClient() }]] } },
  )
  return { job, page, asked, ended, begin }
}

describe('a job', () => {
  beforeEach(() => void vi.useFakeTimers())
  afterEach(() => {
    vi.useRealTimers()
    vi.restoreAllMocks()
  })

  it('is watched until it ends, and tells how far it is', async () => {
    const { job } = made([
      { state: 'working', done: 2, total: 5 },
      { state: 'done', outcome: { kind: 'journey', id: 3 } },
    ])
    const outcome = job.mutateAsync('file')
    await vi.advanceTimersByTimeAsync(150)
    expect(job.progress.value).toEqual({ text: 'Reading', done: 2, total: 5 })
    await vi.advanceTimersByTimeAsync(1_000)
    expect(await outcome).toEqual({ kind: 'journey', id: 3 })
    expect(job.progress.value).toBeNull()
  })

  it('fails with its problem', async () => {
    const problem = { status: 422, title: 'Too large', detail: 'It unfolds.', problems: [] }
    const { job } = made([{ state: 'refused', problem }])
    job.mutate('file')
    await vi.advanceTimersByTimeAsync(500)
    expect(job.isError.value).toBe(true)
    expect(job.error.value?.message).toBe('It unfolds.')
    expect(job.progress.value).toBeNull()
  })

  it('is cancelled when it is not wanted any more, and says nothing of it', async () => {
    const { job, page, asked, ended } = made([])
    job.mutate('file')
    await vi.advanceTimersByTimeAsync(500)
    await job.cancel()
    await vi.advanceTimersByTimeAsync(2_000)
    expect(ended).toHaveBeenCalledOnce()
    expect(job.isError.value).toBe(false)
    expect(job.isPending.value).toBe(false)
    const looks = asked.mock.calls.length
    job.mutate('again')
    await vi.advanceTimersByTimeAsync(500)
    page.unmount()
    await vi.advanceTimersByTimeAsync(2_000)
    expect(ended).toHaveBeenCalledTimes(2)
    expect(asked.mock.calls.length - looks).toBeLessThan(5)
  })
})
