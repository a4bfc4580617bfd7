import { readFileSync } from 'node:fs'
import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import {
  areaOf,
  begun,
  dragged,
  drawn,
  joined,
  loadAt,
  peakOf,
  pointsOf,
  reduced,
  secondsIn,
  split,
  VERBS,
  type Sentence,
  type Unit,
} from './load'
import { durationOf, secondsOf, steppedDuration, typedAmount, typedDuration } from './quantities'

interface Case {
  about: string
  way: 'users' | 'arrivals'
  load: Sentence[]
  seconds: number
  area: number
  peak: number
  at: [number, number][]
}
const CASES = JSON.parse(readFileSync('../tests/plan/load_cases.json', 'utf8')) as Case[]

const time = fc.integer({ min: 1, max: 600 }).map((s) => durationOf(s))
const few = fc.integer({ min: 1, max: 12 })
const some = fc.integer({ min: 0, max: 60 })
const sentence: fc.Arbitrary<Sentence> = fc.oneof(
  fc.record({ users: some, for: time }).map((f) => ({ hold: f })),
  time.map((t) => ({ hold: { for: t } })),
  fc.record({ by: few, every: time, to: some }).map((f) => ({ climb: f })),
  fc.record({ from: some, by: few, every: time, to: some }).map((f) => ({ climb: f })),
  fc.tuple(few, few, few).map(([by, every, n]) => ({
    climb: { by, every: `${every} s`, for: `${every * n} s` },
  })),
  fc.record({ by: few, every: time }).map((f) => ({ drop: f })),
  fc.record({ by: few, for: time }).map((f) => ({ jump: f })),
  fc.record({ to: some, over: time }).map((f) => ({ ramp: f })),
  time.map((t) => ({ wait: t })),
)
const line = (sentences: Sentence[], unit: Unit = 'users') =>
  reduced(pointsOf(drawn(sentences, unit)))

function same(a: Sentence[], b: Sentence[]) {
  const [x, y] = [line(a), line(b)]
  expect(x.length).toBe(y.length)
  for (const [i, [t, n]] of x.entries()) {
    expect(t).toBeCloseTo(y[i]?.[0] ?? NaN, 5)
    expect(n).toBeCloseTo(y[i]?.[1] ?? NaN, 5)
  }
}

describe('a load in sentences', () => {
  it.each(CASES)('is drawn as it is run: $about', ({ way, load, seconds, area, peak, at }) => {
    const lines = drawn(load, way === 'users' ? 'users' : 'rate')
    expect(secondsIn(lines)).toBeCloseTo(seconds, 6)
    expect(areaOf(lines)).toBeCloseTo(area, 6)
    expect(peakOf(lines)).toBeCloseTo(peak, 6)
    for (const [t, n] of at) expect(loadAt(pointsOf(lines), t)).toBeCloseTo(n, 6)
  })

  it('parted anywhere it can be is the same load, and joined again too', () => {
    fc.assert(
      fc.property(fc.array(sentence, { minLength: 1, maxLength: 6 }), fc.nat(5), (load, pick) => {
        const i = pick % load.length
        const level = drawn(load, 'users')[i]?.level ?? 0
        const parts = split(load[i] as Sentence, level, 'users')
        if (!parts) return
        const parted = [...load.slice(0, i), ...parts, ...load.slice(i + 1)]
        same(parted, load)
        const whole = joined(parts[0], parts[1], level, 'users')
        if (whole) same([...load.slice(0, i), whole, ...load.slice(i + 1)], load)
      }),
      { numRuns: 500 },
    )
  })

  it('joins what goes on alike and nothing else', () => {
    fc.assert(
      fc.property(sentence, sentence, sentence, (first, a, b) => {
        const level = drawn([first], 'users')[0]?.end ?? 0
        const whole = joined(a, b, level, 'users')
        if (whole) same([first, whole], [first, a, b])
      }),
      { numRuns: 500 },
    )
    expect(joined({ wait: '1 min' }, { wait: '30 s' }, 0, 'users')).toEqual({ wait: '1.5 min' })
    expect(
      joined({ hold: { users: 5, for: '1 s' } }, { hold: { users: 6, for: '1 s' } }, 0, 'users'),
    ).toBeNull()
  })

  it('begins every verb with something that can be drawn', () => {
    for (const verb of VERBS)
      for (const level of [0, 12])
        if (verb !== 'drop' || level)
          expect(drawn([begun(verb, level, 'users')], 'users')[0]?.seconds).toBeGreaterThan(0)
  })

  it('follows a corner that is dragged', () => {
    const hold = { hold: { users: 10, for: '1 min' } }
    const at = (s: Sentence) => drawn([s], 'users')[0] as ReturnType<typeof drawn>[number]
    expect(dragged(hold, at(hold), 'users', { load: 33.4, seconds: 92 })).toEqual({
      hold: { users: 33, for: '1.5 min' },
    })
    const climb = { climb: { by: 5, every: '10 s', to: 20 } }
    expect(dragged(climb, at(climb), 'users', { load: 41, seconds: 80 })).toEqual({
      climb: { by: 5, every: '20 s', to: 41 },
    })
    expect(
      dragged({ wait: '10 s' }, at({ wait: '10 s' }), 'users', { load: 9, seconds: 30 }),
    ).toEqual({
      wait: '30 s',
    })
  })
})

describe('times and amounts', () => {
  it('are understood as people type them', () => {
    expect(typedDuration('90s', '1 min')).toBe('90 s')
    expect(typedDuration('2', '1 min')).toBe('2 min')
    expect(typedDuration('1,5 hours', '1 min')).toBe('1.5 h')
    expect(typedDuration('1:30', '1 min')).toBe('1.5 min')
    expect(typedDuration('soon', '1 min')).toBe('soon')
    expect(typedAmount('1 200')).toBe(1200)
    expect(typedAmount('300 /min')).toBe('300 /min')
    expect(steppedDuration('55 s', 1)).toBe('1 min')
    expect(steppedDuration('1 min', -1)).toBe('30 s')
  })

  it('are written so that they are read back exactly', () => {
    fc.assert(
      fc.property(fc.integer({ min: 0, max: 2_000_000_000 }), (ms) => {
        expect(secondsOf(durationOf(ms / 1000))).toBeCloseTo(ms / 1000, 6)
      }),
    )
  })
})
