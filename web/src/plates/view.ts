/** What every row of a run's plate draws along: the axis in use, cut into places. */
import type { Schemas } from '@/api/client'
import type { FittedCurves } from '@/api/curves'
import type { Tokens } from '@/ui/theme'
import type { Arrangement } from './arrangement'
import type { Stretch } from './dragging'
import { reach } from './strip'

export type Plate = Omit<Schemas['LivePlate'], 'state' | 'elapsed_s' | 'story' | 'standing'>
export type Profile = Schemas['ProfileOutline']
export type Axis = 'clock' | 'load'
export type Column = (number | null)[]
export type Point = [number, number | null]

/** One level of the findings, as far as the plate draws it. */
export interface LevelPoint {
  number: number
  start_s: number
  end_s: number
  load: { kind: string; ordered: number; delivered: number; blind: number }
  throughput: number
  throughput_se?: number | null
  response_s?: number | null
  p50_s: number | null
  p95_s: number | null
  p99_s: number | null
  intervals?: Intervals
  in_flight: number
  present?: number
  overdue?: number
  blind?: number
  completions: number
  errors: number
  utilisation: Record<string, number | null>
  steps?: StepPoint[]
}

/** One step at a level. */
export interface StepPoint {
  step: number
  response_s?: number | null
  p50_s: number | null
  p95_s: number | null
  p99_s: number | null
  intervals?: Intervals
}

/** 90 % intervals (s) of percentiles, by name. */
export type Intervals = Record<string, [low: number, high: number]>

export interface Boundary {
  value: number
  low: number
  high: number
}

export interface Goal {
  label: string
  limit: number
  /** The selection it is about. */
  of: string
}

export interface PlateInput {
  axis: Axis
  plate: Plate
  profile: Profile
  levels: LevelPoint[]
  comfort: Boundary | null
  saturation: Boundary | null
  goals: Goal[]
  flags: { t: number; text: string }[]
  /** Stretches of the clock that are left out of the findings. */
  aside?: { from_s: number; until_s: number }[]
  /** The stretch of the clock that is shown, if not all of it. */
  window: Stretch | null
  /** The load as it would be if what somebody is about to ask were done. */
  prospect: Profile | null
  arrangement: Arrangement
  tokens: Tokens
  /** What the laws say over the loads that were measured, once it is known. */
  curves?: FittedCurves
  /** Where plates stand beside each other: narrow, each row as high on the scale as in the others. */
  beside?: { most: Record<string, number> }
}

/** A stretch of the axis: a bin of time, a level, or, before there are levels, the seconds of a like load. */
export interface Place {
  x: number
  from: number
  to: number
  level: LevelPoint | null
  /** The bins that lie in it. */
  bins: number[]
}

export interface View extends PlateInput {
  /** The load in each bin, in the unit of the axis. */
  load: Column
  x: { min: number; max: number }
  places: Place[]
  /** Whether load was wanted in a bin; who finishes after it belongs to no load. */
  loaded: boolean[]
}

/** So many stretches of load stand for levels while there are none. */
const STRETCHES = 30

export function viewOf(input: PlateInput): View {
  const { plate, profile, axis, levels } = input
  const load = loadOf(plate, profile)
  const wanted = profile.axis.kind === 'users' ? plate.planned : load
  const loaded = wanted.map((here) => (here ?? 0) > 0)
  if (axis === 'clock') {
    const half = plate.bin_s / 2
    const places = plate.t.map((t, i) => {
      const x = t ?? 0
      return { x, from: x - half, to: x + half, level: null, bins: [i] }
    })
    const { from, until } = input.window ?? { from: 0, until: clockEnd(input) }
    return { ...input, load, loaded, places, x: { min: from, max: until } }
  }
  const seen = levels.length ? levels.map((l) => l.load.delivered) : load.map((l) => l ?? 0)
  const most = seen.reduce((a, b) => Math.max(a, b), profile.axis.peak)
  const x = { min: 0, max: Math.ceil(most * 1.04) || 1 }
  const places = levels.length ? ofLevels(input, x.max) : ofLoads(load, loaded, x.max)
  return { ...input, load, loaded, places, x }
}

/** The load in each bin: people present, or where everybody comes by rate the arrivals ordered per second. */
function loadOf(plate: Plate, profile: Profile): Column {
  if (profile.axis.kind === 'users') return plate.users
  return plate.t.map((_, i) => plate.groups.reduce((sum, g) => sum + (g.ordered[i] ?? 0), 0))
}

function clockEnd({ plate, profile, prospect }: PlateInput): number {
  const planned = Math.max(profile.duration_s, prospect?.t.at(-1) ?? 0)
  return Math.max(planned, (plate.t.at(-1) ?? 0) + plate.bin_s / 2)
}

function ofLevels({ levels, plate }: PlateInput, end: number): Place[] {
  const sorted = levels.toSorted((a, b) => a.load.delivered - b.load.delivered)
  const loads = sorted.map((l) => l.load.delivered)
  return sorted.map((level, k) => {
    const [from, to] = reach(loads, k, end)
    const settled = (level.start_s + level.end_s) / 2 // the earlier half still settles
    const bins = plate.t.flatMap((t, i) =>
      t !== null && t >= settled && t <= level.end_s ? [i] : [],
    )
    return { x: level.load.delivered, from, to, level, bins }
  })
}

function ofLoads(load: Column, loaded: boolean[], end: number): Place[] {
  const width = end / STRETCHES
  const bins = new Map<number, number[]>()
  load.forEach((here, i) => {
    if (here === null || !loaded[i]) return
    const k = Math.min(STRETCHES - 1, Math.floor(here / width))
    bins.set(k, [...(bins.get(k) ?? []), i])
  })
  return [...bins.keys()]
    .sort((a, b) => a - b)
    .map((k) => {
      const place = {
        x: 0,
        from: k * width,
        to: (k + 1) * width,
        level: null,
        bins: bins.get(k) ?? [],
      }
      return { ...place, x: at(load, place) ?? 0 }
    })
}

/** A column's value at a place: the mean over its bins, null where nothing is known. */
export function at(column: Column, place: Place): number | null {
  if (place.bins.length === 1) return column[place.bins[0] ?? -1] ?? null
  const known = place.bins.map((i) => column[i]).filter((v): v is number => v != null)
  return known.length ? known.reduce((sum, v) => sum + v, 0) / known.length : null
}

function fits({ plate, axis }: View, i: number): boolean {
  return axis === 'load' || (plate.users[i] ?? 0) <= (plate.planned[i] ?? 0) * 1.02 + 1
}

/** The place nearest to `x`; without one the last that load was wanted in. */
export function placeAt(view: View, x: number | null): Place | undefined {
  if (x === null) {
    const wanted = (place: Place) => place.bins.some((i) => view.loaded[i])
    // Where load ends within a bin, that one tells of both: the bin before does not.
    const whole = (place: Place) => place.bins.every((i) => fits(view, i))
    return (
      view.places.findLast((place) => wanted(place) && whole(place)) ??
      view.places.findLast(wanted) ??
      view.places.at(-1)
    )
  }
  const far = (place: Place) => Math.abs(place.x - x)
  return view.places.reduce<Place | undefined>(
    (best, place) => (best && far(best) <= far(place) ? best : place),
    undefined,
  )
}

/** Where on the axis in use a stretch of load lies: the load as it is, or the time they were there. */
export function stretchOf(
  input: Pick<PlateInput, 'axis' | 'levels' | 'profile'>,
  low: number,
  high: number,
): [number, number] | null {
  if (input.axis === 'load') return [low, high]
  // Before there are findings, levels are as they were ordered.
  const levels = input.levels.length
    ? input.levels.map((l) => ({ start_s: l.start_s, end_s: l.end_s, at: l.load.delivered }))
    : input.profile.levels.map((l) => ({ start_s: l.start_s, end_s: l.end_s, at: l.users }))
  const inside = levels.filter((l) => l.at >= low * 0.98 && l.at <= high * 1.02)
  const chosen = inside.length ? inside : levels.filter((l) => l.at >= high).slice(0, 1)
  if (!chosen.length) return null
  return [Math.min(...chosen.map((l) => l.start_s)), Math.max(...chosen.map((l) => l.end_s))]
}
