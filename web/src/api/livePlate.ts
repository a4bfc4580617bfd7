/** A live plate grows: what a page has, and what came since, put together. */
import type { Schemas } from './client'

export type LivePlate = Schemas['LivePlate']
type Column = (number | null)[]

/** Seconds read again each time: the slowest source of a second may come so much later. */
const OVERLAP_S = 5

/** What to ask for next: the second from which on this page's columns may still change. */
export function cursor(have: LivePlate | undefined): { after: number; bin_s: number } {
  if (!have?.t.length) return { after: 0, bin_s: 0 }
  const end = (have.t.at(-1) ?? 0) + have.bin_s / 2
  const after = Math.floor(end / have.bin_s) * have.bin_s - OVERLAP_S
  return { after: Math.max(0, after), bin_s: have.bin_s }
}

/** `have` up to where `fresh` begins, then `fresh`. */
export function joined(have: LivePlate | undefined, fresh: LivePlate): LivePlate {
  if (!have || fresh.since === 0 || fresh.bin_s !== have.bin_s) return fresh
  const kept = have.t.filter((t) => (t ?? 0) < fresh.since).length
  const grown = (before: Column | undefined, after: Column | undefined): Column => [
    ...(before?.slice(0, kept) ?? Array<null>(kept).fill(null)),
    ...(after ?? Array<null>(fresh.t.length).fill(null)),
  ]
  const before = <T extends { t: number | null }>(marks: T[]) =>
    marks.filter((mark) => (mark.t ?? 0) < fresh.since)
  return {
    ...fresh,
    since: have.since,
    t: grown(have.t, fresh.t),
    planned: grown(have.planned, fresh.planned),
    users: grown(have.users, fresh.users),
    in_flight: grown(have.in_flight, fresh.in_flight),
    throughput: grown(have.throughput, fresh.throughput),
    errors: grown(have.errors, fresh.errors),
    p50: grown(have.p50, fresh.p50),
    p95: grown(have.p95, fresh.p95),
    p99: grown(have.p99, fresh.p99),
    blur: grown(have.blur, fresh.blur),
    stalls: [...before(have.stalls), ...fresh.stalls],
    events: [...before(have.events), ...fresh.events],
    resources: both(have.resources, fresh.resources, (r) => r.key).map(([old, now]) => ({
      ...(now ?? old),
      utilisation: grown(old?.utilisation, now?.utilisation),
      waiting:
        old?.waiting || now?.waiting
          ? grown(old?.waiting ?? undefined, now?.waiting ?? undefined)
          : null,
    })),
    pins: both(have.pins, fresh.pins, (p) => `${p.component} ${p.metric} ${p.figure}`).map(
      ([old, now]) => ({
        ...(now ?? old),
        lines: both(old?.lines ?? [], now?.lines ?? [], (l) => l.label).map(([was, is]) => ({
          label: (is ?? was).label,
          values: grown(was?.values, is?.values),
        })),
        spread: ((now ?? old).spread.length ? (now ?? old).bounds : []).map((_, i) =>
          grown(old?.spread[i], now?.spread[i]),
        ),
      }),
    ),
  }
}

/** Pairs of the same thing before and now; one of them may be missing. */
function both<T>(before: T[], now: T[], key: (one: T) => string): [T, T][] {
  const keys = [...new Set([...before, ...now].map(key))]
  const find = (all: T[], wanted: string) => all.find((one) => key(one) === wanted) as T
  return keys.map((k) => [find(before, k), find(now, k)])
}
