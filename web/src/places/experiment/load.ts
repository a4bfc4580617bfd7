/**
 * Load in sentences, as `plan/segments.py` reads them: what each says goes on from where the one before left the load.
 * One list of cases holds both to the same function.
 */
import { amountOf, durationOf, secondsOf } from './quantities'

export const VERBS = ['hold', 'climb', 'drop', 'jump', 'ramp', 'wait', 'gather', 'search'] as const
export type Verb = (typeof VERBS)[number]
export type Fields = Record<string, unknown>
/** One sentence as the document holds it: a verb with its fields; `wait` has only a time. */
export type Sentence = Record<string, unknown>
/** What a group's load is counted in. */
export type Unit = 'users' | 'rate'

/** A stretch of load: `stairs` equal holds, or a straight line where that is 0. */
export interface Stretch {
  start: number
  end: number
  seconds: number
  stairs: number
}
/** A sentence on the clock: from `at_s` on, for `seconds`, from `level` (before it) to `end`. */
export interface Drawn {
  at_s: number
  seconds: number
  level: number
  end: number
  stretches: Stretch[]
  /** The run decides: what is drawn is the most it may come to. */
  open: boolean
}
export type Point = [t: number, load: number]

export function verbOf(sentence: Sentence): Verb | null {
  return VERBS.find((verb) => verb in sentence) ?? null
}

export function fieldsOf(sentence: Sentence): Fields {
  const verb = verbOf(sentence)
  const told = verb ? sentence[verb] : null
  return told !== null && typeof told === 'object' ? (told as Fields) : {}
}

const hold = (amount: number, seconds: number): Stretch => ({
  start: amount,
  end: amount,
  seconds,
  stairs: 1,
})

function climb(start: number, end: number, by: number, every: number): Stretch {
  const stairs = Math.floor(Math.abs(end - start) / by + 1e-9) + 1
  const last = start + (end < start ? -by : by) * (stairs - 1)
  return { start, end: last, seconds: stairs * every, stairs }
}

/** Stairs from the first one after `level` to `end`; the last is `end`, however near. */
function stairs(level: number, end: number, by: number, every: number): Stretch[] {
  const away = Math.abs(end - level)
  const whole = Math.floor(away / by + 1e-9)
  const sign = end < level ? -1 : 1
  const made = whole ? [climb(level + sign * by, level + sign * by * whole, by, every)] : []
  if (away - whole * by > 1e-9 || !made.length) made.push(hold(end, every))
  return made
}

/** The stretches of a sentence begun at `level`; null where it does not say enough yet. */
export function stretchesOf(sentence: Sentence, level: number, unit: Unit): Stretch[] | null {
  const verb = verbOf(sentence)
  const told = fieldsOf(sentence)
  const time = (name: string) => secondsOf(told[name])
  const number = (name: string) => amountOf(told[name])
  const given = (name: string) => told[name] !== undefined && told[name] !== null
  switch (verb) {
    case 'hold': {
      const [seconds, amount] = [time('for'), given(unit) ? number(unit) : level]
      return seconds === null || amount === null ? null : [hold(amount, seconds)]
    }
    case 'climb': {
      const [by, every] = [number('by'), time('every')]
      if (!by || by < 0 || every === null || (given('from') && number('from') === null)) return null
      if (given('for')) {
        const whole = time('for')
        const count = whole === null || every <= 0 ? NaN : whole / every
        if (!(Math.round(count) >= 1) || Math.abs(count - Math.round(count)) > 1e-6) return null
        const first = given('from') ? (number('from') ?? 0) : level + by
        return [climb(first, first + by * (Math.round(count) - 1), by, every)]
      }
      const end = number('to')
      if (end === null) return null
      const from = number('from')
      return from !== null ? [climb(from, end, by, every)] : stairs(level, end, by, every)
    }
    case 'drop': {
      const [by, every, end] = [number('by'), time('every'), given('to') ? number('to') : 0]
      if (!by || by < 0 || every === null || end === null) return null
      return stairs(level, Math.min(level, end), by, every)
    }
    case 'jump': {
      const [seconds, to, by] = [time('for'), number('to'), number('by') ?? negative(told.by)]
      if (seconds === null || (to === null && by === null)) return null
      return [hold(Math.max(0, to ?? level + (by ?? 0)), seconds)]
    }
    case 'ramp': {
      const [seconds, end, start] = [
        time('over'),
        number('to'),
        given('from') ? number('from') : level,
      ]
      if (seconds === null || end === null || start === null) return null
      return [{ start, end, seconds, stairs: 0 }]
    }
    case 'wait': {
      const seconds = secondsOf(sentence.wait)
      return seconds === null ? null : [hold(0, seconds)]
    }
    case 'gather': {
      const [people, within, stay] = [number('users'), time('within'), time('stay')]
      if (!people || !within || !stay) return null
      const turn = Math.min(within, stay)
      const most = (people * turn) / within
      const level_s = Math.abs(within - stay)
      return [
        { start: 0, end: most, seconds: turn, stairs: 0 },
        ...(level_s ? [hold(most, level_s)] : []),
        { start: most, end: 0, seconds: turn, stairs: 0 },
      ]
    }
    case 'search': {
      const [most, within] = [number('to'), time('within')]
      return most && within ? [hold(most, within)] : null
    }
    default:
      return null
  }
}

const negative = (value: unknown) => (typeof value === 'number' ? value : null)

/** Every sentence on the clock. One that does not say enough yet takes no time. */
export function drawn(sentences: Sentence[], unit: Unit): Drawn[] {
  let [at_s, level] = [0, 0]
  return sentences.map((sentence) => {
    const stretches = stretchesOf(sentence, level, unit) ?? []
    const seconds = stretches.reduce((sum, s) => sum + s.seconds, 0)
    const end = stretches.at(-1)?.end ?? level
    const made = { at_s, seconds, level, end, stretches, open: verbOf(sentence) === 'search' }
    at_s += seconds
    level = made.end
    return made
  })
}

/** The corners of the line, two where it jumps. */
export function pointsOf(lines: Drawn[]): Point[] {
  const points: Point[] = []
  for (const line of lines) {
    let t = line.at_s
    for (const s of line.stretches) {
      const step = s.stairs > 1 ? (s.end - s.start) / (s.stairs - 1) : 0
      if (!s.stairs) points.push([t, s.start], [t + s.seconds, s.end])
      for (let i = 0; i < s.stairs; i++) {
        const from = t + (i * s.seconds) / s.stairs
        points.push([from, s.start + step * i], [from + s.seconds / s.stairs, s.start + step * i])
      }
      t += s.seconds
    }
  }
  return points
}

export const secondsIn = (lines: Drawn[]) => lines.reduce((sum, line) => sum + line.seconds, 0)
/** Load times seconds. */
export const areaOf = (lines: Drawn[]) =>
  lines.reduce(
    (sum, line) =>
      sum + line.stretches.reduce((part, s) => part + ((s.start + s.end) / 2) * s.seconds, 0),
    0,
  )
export const peakOf = (lines: Drawn[]) =>
  lines.reduce((most, l) => l.stretches.reduce((m, s) => Math.max(m, s.start, s.end), most), 0)

/** The load at `t`, of points in order. */
export function loadAt(points: Point[], t: number): number {
  for (let i = points.length - 1; i > 0; i--) {
    const [a, b] = [points[i - 1], points[i]]
    if (a && b && a[0] <= t && t < b[0]) return a[1] + ((b[1] - a[1]) * (t - a[0])) / (b[0] - a[0])
  }
  return 0
}

// Changes of the list

/** A sentence to begin with, from where the load stands. */
export function begun(verb: Verb, level: number, unit: Unit): Sentence {
  const some = Math.max(1, Math.round(level / 5) || (unit === 'users' ? 10 : 2))
  switch (verb) {
    case 'hold':
      return { hold: level > 0 ? { for: '1 min' } : { [unit]: some, for: '1 min' } }
    case 'climb':
      return { climb: { by: some, every: '1 min', to: Math.round(level) + 5 * some } }
    case 'drop':
      return { drop: { by: some, every: '10 s', to: 0 } }
    case 'jump':
      return { jump: { by: some, for: '1 min' } }
    case 'ramp':
      return { ramp: { to: Math.round(level) + 5 * some, over: '1 min' } }
    case 'wait':
      return { wait: '1 min' }
    case 'gather':
      return { gather: { users: 100, within: '10 min', stay: '5 min' } }
    case 'search':
      return {
        search: { from: 5, to: Math.max(100, 2 * Math.round(level)), within: '10 min' },
      }
  }
}

const at = (verb: Verb, fields: Fields, more: Fields): Sentence => ({
  [verb]: { ...fields, ...more },
})

/** The sentence in two that say the same together; null where it cannot be parted exactly. */
export function split(sentence: Sentence, level: number, unit: Unit): [Sentence, Sentence] | null {
  const verb = verbOf(sentence)
  const told = fieldsOf(sentence)
  const halves = (name: string): [string, string] | null => {
    const whole = verb === 'wait' ? secondsOf(sentence.wait) : secondsOf(told[name])
    if (!whole) return null
    const first = whole >= 2 ? Math.floor(whole / 2) : whole / 2
    return [durationOf(first), durationOf(Number((whole - first).toFixed(6)))]
  }
  if (verb === 'wait') {
    const parts = halves('wait')
    return parts && [{ wait: parts[0] }, { wait: parts[1] }]
  }
  if (verb === 'hold' || verb === 'jump') {
    const parts = halves('for')
    return parts && [at(verb, told, { for: parts[0] }), { hold: { for: parts[1] } }]
  }
  const made = stretchesOf(sentence, level, unit)
  if (!made) return null
  if (verb === 'climb' || verb === 'drop') return parted(verb, told, made)
  if (verb === 'ramp') return partedRamp(told, made)
  return null
}

/** Stairs in two: the second goes on from where the first ends. */
function parted(verb: Verb, told: Fields, made: Stretch[]): [Sentence, Sentence] | null {
  const first = made[0]
  const count = made.reduce((sum, s) => sum + s.stairs, 0)
  if (!first || count < 2 || first.stairs < 1) return null
  const n = Math.min(first.stairs, Math.floor(count / 2))
  const step = first.stairs > 1 ? (first.end - first.start) / (first.stairs - 1) : 0
  const turn = Number((first.start + step * (n - 1)).toFixed(6))
  const every = secondsOf(told.every) ?? 0
  if (told.for !== undefined)
    return [
      at(verb, told, { for: durationOf(Number((n * every).toFixed(6))) }),
      {
        [verb]: {
          by: told.by,
          every: told.every,
          for: durationOf(Number(((count - n) * every).toFixed(6))),
        },
      },
    ]
  const to = told.from === undefined ? told.to : made.at(-1)?.end
  const rest = { by: told.by, every: told.every, ...(to === undefined ? {} : { to }) }
  return [at(verb, told, { to: turn }), { [verb]: rest }]
}

/** A line in two, at a whole number where it passes one at a whole millisecond. */
function partedRamp(told: Fields, made: Stretch[]): [Sentence, Sentence] | null {
  const line = made[0]
  if (!line || !line.seconds) return null
  const ms = line.seconds * 1000
  const rise = line.end - line.start
  if (!rise) {
    const first = Math.floor(ms / 2)
    if (!first) return null
    return [
      at('ramp', told, { over: durationOf(first / 1000) }),
      { ramp: { to: told.to, over: durationOf((ms - first) / 1000) } },
    ]
  }
  const sign = Math.sign(rise)
  const middle = Math.round(line.start + rise / 2)
  for (let i = 0; i < Math.abs(rise); i++) {
    const turn = middle + (i % 2 ? -1 : 1) * Math.ceil(i / 2)
    const first = (ms * (turn - line.start)) / rise
    const between = (turn - line.start) * sign > 0 && (line.end - turn) * sign > 0
    if (between && Math.abs(first - Math.round(first)) < 1e-9)
      return [
        at('ramp', told, { to: turn, over: durationOf(Math.round(first) / 1000) }),
        { ramp: { to: told.to, over: durationOf((ms - Math.round(first)) / 1000) } },
      ]
  }
  return null
}

/** Two that follow each other in one that says the same; null where none can. */
export function joined(a: Sentence, b: Sentence, level: number, unit: Unit): Sentence | null {
  const [verbA, verbB, first, second] = [verbOf(a), verbOf(b), fieldsOf(a), fieldsOf(b)]
  const [before] = drawn([a], unit).length ? [stretchesOf(a, level, unit)] : [null]
  const end = before?.at(-1)?.end ?? level
  const after = stretchesOf(b, end, unit)
  if (!verbA || !before || !after) return null
  const sum = (x: unknown, y: unknown) =>
    durationOf(Number(((secondsOf(x) ?? 0) + (secondsOf(y) ?? 0)).toFixed(6)))
  if (verbA === 'wait' && verbB === 'wait') return { wait: sum(a.wait, b.wait) }
  const flat = (s: Stretch[]) => s.length === 1 && s[0]?.stairs === 1
  if (
    (verbA === 'hold' || verbA === 'jump') &&
    verbB === 'hold' &&
    flat(after) &&
    after[0]?.end === end
  )
    return at(verbA, first, { for: sum(first.for, second.for) })
  const candidate =
    verbA === 'climb' && verbB === 'climb' && first.for !== undefined && second.for !== undefined
      ? at('climb', first, { for: sum(first.for, second.for) })
      : verbA === verbB && (verbA === 'climb' || verbA === 'drop') && first.for === undefined
        ? at(verbA, first, second.to === undefined ? { to: after.at(-1)?.end } : { to: second.to })
        : verbA === 'ramp' && verbB === 'ramp'
          ? at('ramp', first, { to: second.to, over: sum(first.over, second.over) })
          : null
  if (!candidate) return null
  const together = stretchesOf(candidate, level, unit)
  return together && alike(together, [...before, ...after]) ? candidate : null
}

/** Whether two lists of stretches are the same line. */
function alike(a: Stretch[], b: Stretch[]): boolean {
  const corners = (stretches: Stretch[]) =>
    reduced(pointsOf([{ at_s: 0, seconds: 0, level: 0, end: 0, stretches, open: false }]))
  const [x, y] = [corners(a), corners(b)]
  return (
    x.length === y.length &&
    x.every(
      ([t, n], i) =>
        Math.abs(t - (y[i]?.[0] ?? NaN)) < 1e-6 && Math.abs(n - (y[i]?.[1] ?? NaN)) < 1e-6,
    )
  )
}

/** Without corners that lie on the line between their neighbours. */
export function reduced(points: Point[]): Point[] {
  const found: Point[] = []
  for (const point of points) {
    while (
      found.length > 1 &&
      onLine(found[found.length - 2] as Point, found[found.length - 1] as Point, point)
    )
      found.pop()
    const last = found.at(-1)
    if (!last || last[0] !== point[0] || last[1] !== point[1]) found.push(point)
  }
  return found
}

function onLine(a: Point, b: Point, c: Point): boolean {
  if (c[0] === a[0]) return (b[1] - a[1]) * (c[1] - b[1]) >= 0 && b[0] === a[0]
  return Math.abs(a[1] + ((c[1] - a[1]) * (b[0] - a[0])) / (c[0] - a[0]) - b[1]) < 1e-6
}

/** The sentence as it is after its end was dragged to another load and length; whole users, tidy times. */
export function dragged(
  sentence: Sentence,
  line: Drawn,
  unit: Unit,
  to: { load?: number; seconds?: number },
): Sentence {
  const verb = verbOf(sentence)
  const told = fieldsOf(sentence)
  const amount =
    to.load === undefined
      ? undefined
      : unit === 'users'
        ? Math.round(to.load)
        : Number(to.load.toPrecision(3))
  const time = to.seconds === undefined ? undefined : durationOf(tidy(to.seconds))
  const change: Fields = {}
  if (verb === 'wait') return time === undefined ? sentence : { wait: time }
  if (verb === 'hold' || verb === 'jump') {
    if (time !== undefined) change.for = time
    if (amount !== undefined && verb === 'hold') change[unit] = Math.max(0, amount)
    if (amount !== undefined && verb === 'jump')
      if (told.to !== undefined) change.to = Math.max(0, amount)
      else change.by = Number((Math.max(0, amount) - line.level).toPrecision(6)) || told.by
  }
  if (verb === 'ramp') {
    if (time !== undefined) change.over = time
    if (amount !== undefined) change.to = Math.max(0, amount)
  }
  if (verb === 'climb' || verb === 'drop') {
    const count = line.stretches.reduce((sum, s) => sum + s.stairs, 0)
    if (to.seconds !== undefined && count) change.every = durationOf(tidy(to.seconds / count))
    if (to.seconds !== undefined && count && told.for !== undefined)
      change.for = durationOf(Number((tidy(to.seconds / count) * count).toFixed(6)))
    if (amount !== undefined && told.for === undefined)
      change.to = Math.max(
        0,
        verb === 'drop' ? Math.min(amount, Math.ceil(line.level) - 1) : amount,
      )
  }
  if (verb === 'gather') {
    if (amount !== undefined && line.end !== undefined) change.users = Math.max(1, amount)
    if (time !== undefined) change.within = time
  }
  if (verb === 'search') {
    if (amount !== undefined) change.to = Math.max(Number(told.from ?? 1) + 1, amount)
    if (time !== undefined) change.within = time
  }
  return verb ? at(verb, told, change) : sentence
}

/** A time as a person would say it: whole seconds, from a minute on in fives. */
function tidy(seconds: number): number {
  if (seconds < 1) return 1
  return seconds < 60 ? Math.round(seconds) : Math.round(seconds / 5) * 5
}
