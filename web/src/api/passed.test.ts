import { QueryClient } from '@tanstack/vue-query'
import { describe, expect, it } from 'vitest'
import { passed } from './client'

describe('an answer that a change has overtaken', () => {
  it('does not bring back what was before it', async () => {
    const client = new QueryClient()
    const key = ['journey', 1]
    client.setQueryData(key, 'first')
    let answer: (value: string) => void = () => undefined
    const asked = client
      .fetchQuery({ queryKey: key, queryFn: () => new Promise<string>((done) => (answer = done)) })
      .catch(() => 'let go')
    await passed(client, key)
    client.setQueryData(key, 'changed')
    answer('first')
    await asked
    await new Promise((done) => setTimeout(done, 5))
    expect(client.getQueryData(key)).toBe('changed')
  })
})
