/** Single requests of a run: those asked for, and the whole visit that one belongs to. */
import { keepPreviousData, useQuery } from '@tanstack/vue-query'
import { computed, toValue, type MaybeRefOrGetter } from 'vue'
import type { LocationQuery } from 'vue-router'
import { given } from '@/ui/format'
import { api, body, type Schemas } from './client'
import type { paths } from './schema'

export type Requests = Schemas['RequestsFound']
export type Line = Schemas['RequestRow']
export type Stay = Schemas['PathStay']
export type KindLine = Schemas['KindRow']
export type Visit = Schemas['WholeVisit']
export type Asked = NonNullable<paths['/api/runs/{run_id}/requests']['get']['parameters']['query']>

export const PAGE = 50

/** What is asked for as the page's address tells it: only what is not as usual. */
export type Narrow = Record<string, string>

const NUMBERS = [
  'from_s',
  'until_s',
  'users_from',
  'users_until',
  'slower_ms',
  'within_ms',
  'user',
  'offset',
]
const WORDS: Record<string, readonly string[] | null> = {
  of: null,
  answer: null,
  counting: ['steps', 'requests'],
  order: ['slowest', 'fastest', 'first', 'last'],
  by: ['step', 'group', 'level', 'minute', 'answer', 'user'],
}

/** An address that is read: what it does not tell, or not rightly, is not asked for. */
export function narrowOf(query: LocationQuery): Narrow {
  const found: Narrow = {}
  for (const [name, value] of Object.entries(query)) {
    if (typeof value !== 'string' || !value) continue
    const known = WORDS[name]
    if (
      NUMBERS.includes(name)
        ? /^\d+(\.\d+)?$/.test(value)
        : known?.includes(value) || known === null
    )
      found[name] = value
  }
  return found
}

/** Times that are asked for already, narrowed to a stretch. */
export function between(
  narrow: Narrow,
  { slower_ms, within_ms }: { slower_ms: number; within_ms: number },
): Narrow {
  const slower = Math.max(Number(narrow.slower_ms ?? 0), slower_ms)
  const within = Math.min(Number(narrow.within_ms || Infinity), within_ms)
  return {
    slower_ms: slower > 0 ? String(Number(slower.toFixed(3))) : '',
    within_ms: String(Number(within.toFixed(3))),
  }
}

/** The page of these requests of a run; nothing and 0 are not asked for. */
export function requestsOf(id: number, narrow: Record<string, string | number>) {
  const told = Object.entries(narrow).filter(([, value]) => value)
  return { path: `/runs/${id}/requests`, query: Object.fromEntries(told) }
}

/** What the server is asked for. */
export function askedOf(narrow: Narrow): Asked {
  const numbers = Object.fromEntries(
    NUMBERS.flatMap((name) => (narrow[name] === undefined ? [] : [[name, Number(narrow[name])]])),
  )
  return { ...narrow, ...numbers, limit: PAGE } as Asked
}

export function useRequests(id: MaybeRefOrGetter<number>, narrow: MaybeRefOrGetter<Narrow>) {
  return useQuery({
    queryKey: computed(() => ['run', toValue(id), 'requests', toValue(narrow)]),
    queryFn: () =>
      body(
        api.GET('/api/runs/{run_id}/requests', {
          params: { path: { run_id: toValue(id) }, query: askedOf(toValue(narrow)) },
        }),
      ),
    placeholderData: keepPreviousData,
  })
}

export function useVisit(
  id: MaybeRefOrGetter<number>,
  of: MaybeRefOrGetter<{ user: number; visit: number } | null>,
) {
  return useQuery({
    queryKey: computed(() => ['run', toValue(id), 'visit', toValue(of)]),
    queryFn: () => {
      const { user, visit } = toValue(of) ?? { user: 0, visit: 0 }
      return body(
        api.GET('/api/runs/{run_id}/visits/{user}/{visit}', {
          params: { path: { run_id: toValue(id), user, visit } },
        }),
      )
    },
    enabled: computed(() => toValue(of) !== null),
  })
}

export interface Phase {
  name: string
  /** How it is drawn. */
  hatch: 'lookup' | 'connect' | 'tls' | 'sending' | 'waiting' | 'receiving' | 'whole'
  seconds: number
}

/** What a request spent its time with, one after the other; phases that it did not have are left out. */
export function phasesOf(line: Line): Phase[] {
  if (line.whole) return [{ name: 'Several requests', hatch: 'whole', seconds: line.total_s }]
  const ends: [string, Phase['hatch'], number][] = [
    ['Looking up the name', 'lookup', line.dns_s],
    ['Connecting', 'connect', line.connect_s],
    ['TLS handshake', 'tls', line.tls_s],
    ['Sending', 'sending', line.sent_s],
    ['Waiting for the first byte', 'waiting', line.first_byte_s || line.total_s],
    ['Receiving', 'receiving', line.total_s],
  ]
  let before = 0
  return ends.flatMap(([name, hatch, end]) => {
    const seconds = end - before
    if (seconds <= 0) return []
    before = end
    return [{ name, hatch, seconds }]
  })
}

/** How long a request was in each component itself, the longest first; "" is outside of all that told. */
export function byComponent(stays: Stay[], whole: number): { name: string; seconds: number }[] {
  const found = new Map<string, number>()
  for (const stay of stays) found.set(stay.component, (found.get(stay.component) ?? 0) + stay.own_s)
  const told = [...found.values()].reduce((sum, own) => sum + own, 0)
  found.set('', Math.max(0, whole - told))
  return [...found]
    .map(([name, own]) => ({ name, seconds: own }))
    .toSorted((a, b) => b.seconds - a.seconds)
}

/** What the servers said of the time they took (Server-Timing), in s, in their order. */
export function serverTimes(headers: string): { name: string; seconds: number }[] {
  return [...headers.matchAll(/^server-timing:(.*)$/gim)].flatMap(([, value]) =>
    (value ?? '').split(',').flatMap((one) => {
      const [name, ...rest] = one.split(';').map((part) => part.trim())
      const took = rest.find((part) => /^dur=/i.test(part))?.slice(4)
      const ms = Number(took?.replaceAll('"', ''))
      return name && took && Number.isFinite(ms) ? [{ name, seconds: ms / 1000 }] : []
    }),
  )
}

/** A moment of a run that somebody typed, in s: 1:30, 90 s, 2 min; null where it is none. */
export function momentOf(text: string): number | null {
  const parts = /^\s*(\d+):([0-5]?\d)(?::([0-5]?\d))?\s*$/.exec(text)
  if (parts) {
    const [first, second, third] = parts.slice(1).map((part) => Number(part ?? NaN))
    return Number.isNaN(third!) ? first! * 60 + second! : first! * 3600 + second! * 60 + third!
  }
  const ms = durationOf(text, 's')
  return ms === null ? null : Math.round(ms / 1000)
}

const UNITS: Record<string, number> = { ms: 1, s: 1000, min: 60_000, h: 3_600_000 }

/** A time that somebody typed, in ms; without a unit it is in that of `bare`. */
export function durationOf(text: string, bare: 'ms' | 's'): number | null {
  const found = /^\s*(\d+(?:[.,]\d+)?)\s*(ms|s|min|h)?\s*$/.exec(text)
  if (!found) return null
  return Number(found[1]!.replace(',', '.')) * UNITS[found[2] ?? bare]!
}

/** A time as it is shown in its field. */
export const shownMs = (text: string | undefined) => (text ? given(Number(text) / 1000) : '')
