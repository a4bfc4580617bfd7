import { describe, expect, it } from 'vitest'
import {
  askedOf,
  between,
  durationOf,
  momentOf,
  narrowOf,
  phasesOf,
  requestsOf,
  serverTimes,
  shownMs,
  type Line,
} from './requests'

const line = (given: Partial<Line>) =>
  ({ dns_s: 0, connect_s: 0, tls_s: 0, sent_s: 0, first_byte_s: 0, total_s: 0, ...given }) as Line

describe('phases', () => {
  it('are the times between the ends that a request tells, and add up to all of it', () => {
    const found = phasesOf(
      line({
        dns_s: 0.01,
        connect_s: 0.03,
        tls_s: 0.08,
        sent_s: 0.081,
        first_byte_s: 0.2,
        total_s: 0.25,
      }),
    )
    expect(found.map((one) => one.hatch)).toEqual([
      'lookup',
      'connect',
      'tls',
      'sending',
      'waiting',
      'receiving',
    ])
    expect(found.reduce((sum, one) => sum + one.seconds, 0)).toBeCloseTo(0.25)
    expect(found[2]?.seconds).toBeCloseTo(0.05)
  })
  it('leave out what a connection that was open did not need', () => {
    const found = phasesOf(line({ first_byte_s: 0.02, total_s: 0.021 }))
    expect(found.map((one) => one.hatch)).toEqual(['waiting', 'receiving'])
  })
  it('are waiting alone where nothing was answered, and one where several requests count as one', () => {
    expect(phasesOf(line({ total_s: 5 }))).toMatchObject([{ hatch: 'waiting', seconds: 5 }])
    expect(phasesOf(line({ total_s: 2, first_byte_s: 1, whole: true }))).toMatchObject([
      { hatch: 'whole', seconds: 2 },
    ])
  })
})

describe('what is asked for', () => {
  it('is read from the address, and what is not rightly told is left out', () => {
    const told = {
      of: 'step:2',
      from_s: '60',
      until_s: 'x',
      order: 'sideways',
      by: 'level',
      other: '1',
      user: '',
    }
    expect(narrowOf(told)).toEqual({ of: 'step:2', from_s: '60', by: 'level' })
    expect(askedOf({ of: 'step:2', from_s: '60' })).toEqual({ of: 'step:2', from_s: 60, limit: 50 })
  })
  it('is narrowed to a stretch of times, never widened', () => {
    const bar = { slower_ms: 4.991, within_ms: 5.119 }
    expect(between({}, bar)).toEqual({ slower_ms: '4.991', within_ms: '5.119' })
    expect(between({ slower_ms: '5', within_ms: '5.1' }, bar)).toEqual({
      slower_ms: '5',
      within_ms: '5.1',
    })
    expect(between({}, { slower_ms: -0.001, within_ms: 2 })).toEqual({
      slower_ms: '',
      within_ms: '2',
    })
  })
  it('is told by the address without what is as usual', () => {
    expect(requestsOf(4, { of: '', from_s: 0, until_s: 90 })).toEqual({
      path: '/runs/4/requests',
      query: { until_s: 90 },
    })
  })
})

describe('what somebody types', () => {
  it.each([
    ['4:05', 245],
    ['1:00:10', 3610],
    ['90', 90],
    ['2 min', 120],
    ['1,5 min', 90],
    ['4:75', null],
    ['soon', null],
  ])('%s is a moment', (text, value) => expect(momentOf(text)).toBe(value))
  it.each([
    ['340 ms', 340],
    ['340', 340],
    ['1.2 s', 1200],
    ['1e9', null],
    ['-4 ms', null],
  ])('%s is a time', (text, value) => expect(durationOf(text, 'ms')).toBe(value))
  it('is shown in the unit that fits', () => {
    expect([shownMs('1200'), shownMs('340'), shownMs(undefined)]).toEqual(['1.2 s', '340 ms', ''])
  })
})

it('reads what servers told of their time', () => {
  const headers =
    'HTTP/1.1 200 OK\r\nServer-Timing: gateway;dur=1.5, db;desc="a store";dur="80"\r\nserver-timing: cache\r\n'
  expect(serverTimes(headers)).toEqual([
    { name: 'gateway', seconds: 0.0015 },
    { name: 'db', seconds: 0.08 },
  ])
  expect(serverTimes('')).toEqual([])
})
