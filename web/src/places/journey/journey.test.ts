import { describe, expect, it } from 'vitest'
import { stepFrom, words } from './commandLine'
import {
  bodyKind, checkKind, keepSource, linesFrom, newCheck, pairsFrom, pairsText, statusesFrom, thinkFrom, thinkText,
  withBody, type CheckKind,
} from './texts' // prettier-ignore
import { barOf } from './waterfall'

describe('a pasted command line', () => {
  it('is split as a shell would', () => {
    expect(words(`curl 'http://a/b c' -H "X: \\"q\\"" \\\n --data $'it\\'s\\n'`)).toEqual([
      'curl', 'http://a/b c', '-H', 'X: "q"', '--data', "it's\n",
    ]) // prettier-ignore
  })

  it('becomes a step with what a person chose to send', () => {
    const line =
      "curl 'http://127.0.0.1:8000/tickets?zone=A' -X PUT -H 'Content-Type: application/json' -H 'Sec-Fetch: x' -H 'X-Zone: A' --data-raw '{\"n\": 1}' -L"
    expect(stepFrom(line, 'Buy')).toEqual({
      name: 'Buy', request: 'PUT /tickets?zone=A', json: { n: 1 }, headers: { 'X-Zone': 'A' }, redirects: true,
    }) // prettier-ignore
  })

  it('reads forms, raw bodies and plain addresses', () => {
    expect(stepFrom("curl http://h/login -d 'a=1&b=x%20y'", 's')).toMatchObject({
      request: 'POST /login',
      form: { a: '1', b: 'x y' },
    })
    expect(stepFrom("curl http://h/x -H 'Content-Type: text/csv' -d a,b", 's')).toMatchObject({
      body: 'a,b',
    })
    expect(stepFrom('curl http://h', 's')).toEqual({ name: 's', request: 'GET /' })
  })

  it('says why it is none', () => {
    expect(stepFrom('fetch http://h', 's')).toContain('curl')
    expect(stepFrom('curl -H a', 's')).toContain('no address')
    expect(stepFrom('curl nonsense', 's')).toContain('“nonsense” is no address')
  })
})

describe('pieces of a step', () => {
  it('read and write pairs, lines and statuses', () => {
    expect(pairsFrom('Accept: text/html\nX-A:b: c\nnonsense', ': ')).toEqual({
      Accept: 'text/html',
      'X-A': 'b: c',
    })
    expect(pairsText({ a: '1', b: '2' }, '=')).toBe('a=1\nb=2')
    expect(pairsFrom('', '=')).toBeUndefined()
    expect(linesFrom(' /a\n/b ')).toEqual(['/a', '/b'])
    expect(statusesFrom('200, 201')).toEqual([200, 201])
    expect(statusesFrom('')).toBeUndefined()
  })

  it('change the kind of a body with a request that can carry it', () => {
    const step = { name: 's', request: 'GET /x' }
    expect(withBody(step, 'form').request).toBe('POST /x')
    expect(bodyKind(withBody(withBody(step, 'json'), 'raw'))).toBe('raw')
    expect(withBody({ ...step, request: 'PUT /x' }, 'json').request).toBe('PUT /x')
    expect(bodyKind(withBody(withBody(step, 'form'), 'none'))).toBe('none')
  })

  it('write waits as they are read', () => {
    expect(thinkText({ law: 'exponential', mean: '4 s' })).toBe('exponential 4 s')
    expect(thinkText({ law: 'fixed', mean: '4 s' })).toBe('4 s')
    const uniform = { law: 'uniform', mean: '3 s', spread: '1 s' }
    expect(thinkFrom(thinkText(uniform))).toEqual(uniform)
    expect(thinkFrom('')).toBeUndefined()
  })

  it('know what kind of check and kept value they are', () => {
    const kinds: CheckKind[] = [
      'contains', 'lacks', 'matches', 'json equals', 'json exists', 'header equals', 'header exists',
      'at_least_bytes', 'at_most_bytes', 'within',
    ] // prettier-ignore
    for (const kind of kinds) expect(checkKind(newCheck(kind))).toBe(kind)
    expect(keepSource({ name: 'a', cookie: 'c' })).toBe('cookie')
  })
})

describe('the waterfall', () => {
  it('places each phase of a request on the time of the whole trial', () => {
    const phases = { dns: 0.01, connect: 0.03, tls: 0, sent: 0.03, first_byte: 0.08, total: 0.1 }
    expect(barOf({ began_s: 0.1, phases }, 0.2)).toEqual([
      { phase: 'name lookup', left: 50, width: 5 },
      { phase: 'connect', left: 55, width: 10 },
      { phase: 'waiting', left: 65, width: 25 },
      { phase: 'receiving', left: 90, width: 10 },
    ])
  })
})
