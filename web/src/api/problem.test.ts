import { describe, expect, it } from 'vitest'
import { asProblem, ProblemError, readProblem } from './problem'

describe('problems', () => {
  it('are read from problem details', async () => {
    const body = {
      status: 422,
      title: 'No',
      detail: 'x',
      problems: [{ path: 'load', message: 'm', mend: 'n' }],
    }
    const found = await readProblem(new Response(JSON.stringify(body), { status: 422 }))
    expect(found.problems[0]?.path).toBe('load')
  })
  it('are made up when the answer holds none', async () => {
    const found = await readProblem(new Response('<html>', { status: 502 }))
    expect(found).toMatchObject({ status: 502, problems: [] })
  })
  it('stand for any error', () => {
    const problem = { status: 409, title: 't', detail: 'd', problems: [] }
    expect(asProblem(new ProblemError(problem))).toBe(problem)
    expect(asProblem(new TypeError('failed to fetch')).title).toBe('The server cannot be reached')
  })
})
