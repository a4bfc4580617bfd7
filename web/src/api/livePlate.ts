/** A page's plate: what it has read, and what was written since, put together. */
import type { Schemas } from './client'

export type LivePlate = Schemas['LivePlate']
type Column = (number | null)[]

/** What the page shows: the selection of its response row (none: the most telling one), how rows are split, and the
 * seconds from one to before another (0: all there are), moving on with the run. */
export interface Shown {
  of: string
  split: '' | 'group' | 'journey' | 'step' | 'region' | 'instance'
  from_s: number
  until_s: number
  /** Of these the last so many: 0, all. */
  last_s: number
}

const MOST_STALLS = 40

/** What to ask for next: everything written after what this page has. */
export function cursor(have: LivePlate | undefined, shown: Shown) {
  return { after: have?.sequence ?? 0, bin_s: have?.bin_s ?? 0, has: have?.of ?? '', ...shown }
}

/** Whether a look found what the next one waits for. Meters and late generators write at other times: a pace that took
 * their rows for it would go round the whole second. */
export const hasNewSecond = (have: LivePlate | undefined, fresh: LivePlate) =>
  fresh.elapsed_s > (have?.elapsed_s ?? 0)

/** `have` with the bins of `fresh` in their places; only those, where they are all there is. */
export function joined(have: LivePlate | undefined, fresh: LivePlate): LivePlate {
  if (!have || fresh.whole) return fresh
  if (fresh.same) return told(have, fresh)
  const end = Math.max(have.start.at(-1) ?? -1, fresh.start.at(-1) ?? -1)
  // Bins of which nobody told anything are there, and empty.
  const { first, bin_s } = fresh
  const length = Math.max(0, Math.floor((end - first) / bin_s) + 1)
  const start = Array.from({ length }, (_, i) => first + i * bin_s)
  const old = new Map(have.start.map((second, i) => [second, i]))
  const now = new Map(fresh.start.map((second, i) => [second, i]))
  // Where each bin stands is looked up once: there are hundreds of columns.
  const inOld = start.map((second) => old.get(second) ?? -1)
  const inNew = start.map((second) => now.get(second) ?? -1)
  const both = (before: Column | undefined, after: Column | undefined): Column =>
    inNew.map((i, k) => (i >= 0 ? after?.[i] : before?.[inOld[k] ?? -1]) ?? null)
  const anew = (t: number) => now.has(Math.floor(t / fresh.bin_s) * fresh.bin_s)
  const kept = <T extends { t: number }>(before: T[], after: T[]): T[] =>
    [...before.filter((mark) => !anew(mark.t)), ...after].sort((a, b) => a.t - b.t)
  const stalls = kept(have.stalls, fresh.stalls)
  const longest = [...stalls].sort((a, b) => b.length_s - a.length_s).slice(0, MOST_STALLS)
  return {
    ...fresh,
    start,
    t: both(have.t, fresh.t).map((t, i) => t ?? (start[i] ?? 0) + fresh.bin_s / 2),
    planned: both(have.planned, fresh.planned),
    users: both(have.users, fresh.users),
    in_flight: both(have.in_flight, fresh.in_flight),
    throughput: both(have.throughput, fresh.throughput),
    errors: both(have.errors, fresh.errors),
    mean: both(have.mean, fresh.mean),
    p50: both(have.p50, fresh.p50),
    p95: both(have.p95, fresh.p95),
    p99: both(have.p99, fresh.p99),
    blur: both(have.blur, fresh.blur),
    groups: pairs(have.groups, fresh.groups, (g) => g.name).map(([was, is]) => ({
      ...is,
      ordered: both(was?.ordered, is.ordered),
      present: both(was?.present, is.present),
    })),
    parts: pairs(have.parts, fresh.parts, (p) => p.id).map(([was, is]) => ({
      ...is,
      throughput: both(was?.throughput, is.throughput),
      p95: both(was?.p95, is.p95),
    })),
    journeys: both(have.journeys, fresh.journeys),
    received: both(have.received, fresh.received),
    requests: both(have.requests, fresh.requests),
    error_kinds: either(have.error_kinds, fresh.error_kinds, (k) => k.kind).map(
      ({ one, was, is }) => ({
        ...one,
        errors: both(was?.errors, is?.errors),
      }),
    ),
    served: either(have.served, fresh.served, (s) => s.name).map(({ one, was, is }) => ({
      ...one,
      mean_s: both(was?.mean_s, is?.mean_s),
    })),
    regions: pairs(have.regions, fresh.regions, (r) => r.id).map(([was, is]) => ({
      ...is,
      throughput: both(was?.throughput, is.throughput),
      errors: both(was?.errors, is.errors),
      p50: both(was?.p50, is.p50),
      p95: both(was?.p95, is.p95),
      p99: both(was?.p99, is.p99),
    })),
    stalls: stalls.filter((stall) => longest.includes(stall)),
    events: kept(have.events, fresh.events),
    resources: pairs(have.resources, fresh.resources, (r) => r.key).map(([was, is]) => ({
      ...is,
      capacity: both(was?.capacity, is.capacity),
      utilisation: both(was?.utilisation, is.utilisation),
      waiting: is.waiting && both(was?.waiting ?? undefined, is.waiting),
      instances: lines(was?.instances, is.instances, both),
    })),
    pins: pairs(have.pins, fresh.pins, (p) => `${p.component} ${p.metric} ${p.figure}`).map(
      ([was, is]) => ({
        ...is,
        lines: lines(was?.lines, is.lines, both),
        spread: is.spread.map((share, i) => both(was?.spread[i], share)),
      }),
    ),
  }
}

const BESIDE = ['state', 'elapsed_s', 'story', 'standing'] as const

/** `have` with what is told of the run beside its measurements; itself, where that is the same too, so that nothing is
 * drawn anew. */
function told(have: LivePlate, fresh: LivePlate): LivePlate {
  const { state, elapsed_s, story, standing } = fresh
  const now = { ...have, state, elapsed_s, story, standing }
  const alike = BESIDE.every((name) => JSON.stringify(now[name]) === JSON.stringify(have[name]))
  return alike ? have : now
}

type Line = Schemas['NamedLine']
type Both = (before: Column | undefined, after: Column | undefined) => Column

function lines(before: Line[] | undefined, now: Line[], both: Both): Line[] {
  return pairs(before ?? [], now, (line) => line.label).map(([was, is]) => ({
    label: is.label,
    values: both(was?.values, is.values),
  }))
}

/** What there was or is, each with both: a look names those only of which something was told meanwhile. */
function either<T>(before: T[], now: T[], key: (one: T) => string) {
  const keys = [...new Set([...before, ...now].map(key))]
  return keys.flatMap((name) => {
    const [was, is] = [before, now].map((list) => list.find((one) => key(one) === name))
    const one = is ?? was
    return one ? [{ one, was, is }] : []
  })
}

/** What there is now, each with itself as it was before, if it was there: every look names all of them. */
function pairs<T>(before: T[], now: T[], key: (one: T) => string): [T | undefined, T][] {
  return now.map((is) => [before.find((one) => key(one) === key(is)), is])
}
