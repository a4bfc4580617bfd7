/** The rows of a run's plate, each an object: how high it is, what it draws, its scale, its figures at the cursor. */
import type { SeriesOption } from 'echarts'
import { amount, figure, given, load, percent, rate, seconds, users } from '@/ui/format'
import { blurRow } from './blur'
import { curve, curveAt } from './curves'
import { bars, cloud, dashed, DASH_MARKS, dotted, fan, line, MOST_LINES, strokes } from './lines'
import { bands, untold, flags, rules } from './marks'
import { pinRow } from './pinRows'
import { cellRow } from './strip'
import {
  at,
  type Column,
  type Place,
  type Plate,
  type Point,
  type Profile,
  type View,
} from './view'

export interface PlateRow {
  id: string
  name: string
  /** A strip is thin and has its figure in one line with its name; a pin's name may be long. */
  kind: 'plain' | 'strip' | 'pin'
  height: number
  scale: {
    max?: number
    /** What stands at a tick; null for a scale without ticks. */
    tick: ((value: number) => string) | null
    /** Roughly so many ticks. */
    parts: number
    lines: boolean
    atZero: boolean
  }
  series(grid: number): SeriesOption[]
  figures(place: Place): string[]
  /** What it mainly tells, to be drawn over another row; none, where it is no single number. */
  measure?: Measure
}

export interface Measure {
  name: string
  /** The scale's end, if it has one. */
  max?: number
  value(place: Place): number | null
  tell(value: number | null): string
}

const HEIGHTS = {
  load: 84,
  throughput: 92,
  response: 136,
  errors: 34,
  received: 44,
  strip: 15,
  band: 9,
  line: 18,
}
/** The share of an instance's band that is left free above the one below it. */
const BETWEEN = 0.14
/** So many kinds of errors are named in their row, the others together. */
const MOST_KINDS = 4

export function rowsOf(view: View): PlateRow[] {
  return [
    loadRow(view),
    throughputRow(view),
    responseRow(view),
    errorsRow(view),
    receivedRow(view),
    blurRow(view, HEIGHTS.strip),
    ...view.plate.resources.map((resource) => resourceRow(view, resource)),
    ...view.plate.pins.map((pin, i) => pinRow(view, pin, i)),
  ]
}

export function resourceName(r: { component: string; name: string }): string {
  return `${r.component} ${r.name === 'cpu' ? 'CPU' : r.name}`
}

const counted = (value: number) => (Number.isInteger(value) ? users(value) : figure(value))

/** A column along the places. */
function along(view: View, column: Column): Point[] {
  return view.places.map((place) => [place.x, at(column, place)])
}

/** A column without what belongs to no load: it would set the row's scale. */
function underLoad(view: View, column: Column): Column {
  return column.map((value, i) => (view.loaded[i] ? value : null))
}

function loadRow(view: View): PlateRow {
  const { plate, profile, tokens, axis } = view
  const base = { id: 'load', kind: 'plain' as const, height: HEIGHTS.load }
  const scale = { tick: counted, parts: 3, lines: true, atZero: true }
  if (axis === 'load') {
    const waiting = (place: Place) => place.level?.in_flight ?? at(plate.in_flight, place)
    return {
      ...base,
      name: 'Waiting',
      scale,
      measure: { name: 'waiting', value: waiting, tell: figure },
      series: (grid) => [
        {
          ...dotted(
            grid,
            tokens.ink2,
            view.places.map((place): Point => [place.x, waiting(place)]),
            5,
          ),
          areaStyle: { color: tokens.silt, opacity: 0.4 },
          markArea: bands(view, view.x.max, true),
        },
        cloud(view, grid, plate.in_flight, tokens.ink2),
      ],
      figures: (place) => {
        const there = place.level?.present ?? at(plate.users, place)
        return [`${figure(waiting(place))} of ${users(there)} users`]
      },
    }
  }
  return {
    ...base,
    name: 'Users',
    scale,
    measure: { name: 'users', value: (place) => at(plate.users, place), tell: users },
    series: (grid) => [
      {
        ...line(grid, tokens.silt, terrain(profile, view.x.max)),
        areaStyle: { color: tokens.silt, opacity: 0.4 },
        lineStyle: { color: tokens.silt, width: 1 },
        markLine: flags(view),
        markArea: untold(view),
      },
      {
        ...line(grid, tokens.ink, along(view, plate.users)),
        lineStyle: { color: tokens.ink, width: 1.2 },
      },
      ...(view.prospect ? [foreseen(view.prospect, grid, tokens.copper, view.x.max)] : []),
    ],
    figures: (place) => [
      ...(profile.axis.kind === 'users'
        ? [`${users(at(plate.users, place))} of ${users(at(plate.planned, place))} users`]
        : [
            `${users(at(plate.users, place))} users there`,
            `${load(at(view.load, place), profile.axis)} ordered`,
          ]),
      ...(plate.groups.length > 1
        ? plate.groups
            .slice(0, MOST_LINES)
            .map((group) => `${group.name} ${users(at(group.present, place))}`)
        : []),
    ],
  }
}

/** The load over time; one without an end goes on to the end of the axis. */
function terrain(profile: Profile, end: number): Point[] {
  const points = profile.t.map((t, i): Point => [t, profile.users[i] ?? null])
  const last = points.at(-1)
  return profile.endless && last && last[0] < end ? [...points, [end, last[1]]] : points
}

/** The load as it would be, dashed. */
function foreseen(prospect: Profile, grid: number, color: string, end: number): SeriesOption {
  return {
    ...line(grid, color, terrain(prospect, end)),
    lineStyle: { color, width: 1.8, type: [6, 4] },
  }
}

/** The parts of a split row, the busiest first, so many as one row can show. */
function busiest(plate: Plate) {
  const sum = (column: Column) => column.reduce<number>((total, v) => total + (v ?? 0), 0)
  return plate.parts.toSorted((a, b) => sum(b.throughput) - sum(a.throughput)).slice(0, MOST_LINES)
}

function splitHeight(plate: Plate, least: number, title: number): number {
  return Math.max(least, title + HEIGHTS.line * Math.min(MOST_LINES, plate.parts.length))
}

function throughputRow(view: View): PlateRow {
  const { plate, tokens, axis } = view
  const parts = busiest(plate)
  const told = (place: Place) => place.level?.throughput ?? at(plate.throughput, place)
  const byParts = (grid: number): SeriesOption[] =>
    parts.map((part, k) => ({
      ...dashed(grid, tokens.lake, along(view, part.throughput), k, axis === 'load'),
      ...(k ? {} : { markArea: backdrop(view) }),
    }))
  return {
    id: 'throughput',
    name: 'Throughput',
    kind: 'plain',
    height: Math.max(
      splitHeight(plate, HEIGHTS.throughput, 22),
      axis === 'load' && view.curves?.loads.length
        ? 22 + (view.curves.scalability?.length ? 7 : 4) * HEIGHTS.line
        : 0,
    ),
    scale: { tick: counted, parts: 3, lines: true, atZero: true },
    measure: { name: 'steps/s', value: told, tell: figure },
    series: (grid) => {
      if (parts.length) return byParts(grid)
      if (axis === 'clock')
        return [
          { ...line(grid, tokens.lake, along(view, plate.throughput)), markArea: backdrop(view) },
        ]
      const levels = view.places.map((place): Point => [place.x, told(place)])
      return [
        { ...dotted(grid, tokens.lake, levels), markArea: backdrop(view) },
        strokes(grid, tokens.lake, view.places.flatMap(rateSpan)),
        cloud(view, grid, plate.throughput, tokens.lake),
        ...curve(view, grid, 'bounds'),
        ...curve(view, grid, 'throughput'),
        ...curve(view, grid, 'scalability'),
      ]
    },
    figures: (place) =>
      parts.length
        ? parts.map(
            (part, k) => `${DASH_MARKS[k]} ${figure(at(part.throughput, place))} ${part.name}`,
          )
        : [rate(told(place)), ...journeys(view, place), ...byLaw(view, place)],
  }
}

const Z_90 = 1.645
/** How surely the throughput of a level is known, at 90 %. */
function rateSpan({ x, level }: Place): [number, number, number][] {
  const reach = level?.throughput_se ? Z_90 * level.throughput_se : 0
  return level && reach
    ? [[x, Math.max(0, level.throughput - reach), level.throughput + reach]]
    : []
}

/** Journeys done to their end; runs of long ago did not tell. */
function journeys({ plate }: View, place: Place): string[] {
  const done = at(plate.journeys, place)
  return done === null ? [] : [`${figure(done)} journeys/s`]
}

/** What the laws say of throughput at a load. */
function byLaw(view: View, place: Place): string[] {
  const most = view.axis === 'load' ? curveAt(view.curves, 'bounds', place) : null
  const curved = view.axis === 'load' ? curveAt(view.curves, 'throughput', place) : null
  const scaled = view.axis === 'load' ? curveAt(view.curves, 'scalability', place) : null
  return [
    ...(most === null ? [] : [`┈┈ ${figure(most)} at most`]),
    ...(curved === null ? [] : [`── ${figure(curved)} by law`]),
    ...(scaled === null
      ? []
      : [
          `╌╌ ${figure(scaled)} by scalability:`,
          `${percent(view.curves?.contention)} contention`,
          `${percent(view.curves?.coherency)} coherency`,
        ]),
  ]
}

/** Bands of load, or on the clock the stretch in which users only finish. */
function backdrop(view: View) {
  return view.axis === 'load' ? bands(view, view.x.max, false) : untold(view)
}

/** The percentiles of a place: of a level as analysed, of a single bin as measured. Those of several bins are not to
 * be had from them. */
function percentilesAt(view: View, place: Place) {
  const { plate } = view
  const { level } = place
  if (level) {
    const found = toldOf(place, plate.of)
    return found ? { p50: found.p50_s, p95: found.p95_s, p99: found.p99_s } : null
  }
  if (place.bins.length !== 1) return null
  return { p50: at(plate.p50, place), p95: at(plate.p95, place), p99: at(plate.p99, place) }
}

/** A step at a place that is a level, by the step's selection. */
function stepAt({ level }: Place, id: string) {
  const number = /^step:(\d+)$/.exec(id)?.[1]
  return number ? level?.steps?.find((one) => one.step === Number(number)) : undefined
}

/** What the findings say of a selection at a place that is a level. */
function toldOf(place: Place, of: string) {
  return of === 'all' ? place.level : stepAt(place, of)
}

/** How surely the percentiles of a level that are drawn are known, at 90 %. */
function timeSpans(view: View): [number, number, number][] {
  return view.places.flatMap((place) => {
    const known = toldOf(place, view.plate.of)?.intervals ?? {}
    return ['p50', 'p95'].flatMap((name): [number, number, number][] => {
      const ends = known[name]
      return ends ? [[place.x, ...ends]] : []
    })
  })
}

/** The mean that people waited, of a level as analysed. */
function meanAt(view: View, place: Place): number | null {
  return place.level
    ? (toldOf(place, view.plate.of)?.response_s ?? null)
    : at(view.plate.mean, place)
}

function responseRow(view: View): PlateRow {
  const { plate, tokens, axis } = view
  const parts = busiest(plate)
  const name = plate.selections.find((one) => one.id === plate.of)?.name ?? 'All steps'
  // The mean time in servers, as their answers tell it, beside the mean that people wait.
  const served = parts.length ? [] : plate.served.slice(0, MOST_LINES - 2)
  const waited = view.places.map((place): Point => [place.x, meanAt(view, place)])
  // Levels tell percentiles of steps; of journeys and groups only seconds do.
  const byLevels = view.places.some((place) => parts[0] && stepAt(place, parts[0].id))
  const fanned = view.places.flatMap((place) => {
    const found = place.bins.some((i) => view.loaded[i]) ? percentilesAt(view, place) : null
    return [{ x: place.x, ...(found ?? { p50: null, p95: null, p99: null }) }]
  })
  const asFan =
    axis === 'clock' || (view.levels.length > 0 && fanned.some((point) => point.p95 !== null))
  return {
    id: 'response',
    name: view.beside
      ? 'Response'
      : parts.length
        ? 'Response, p95'
        : `Response: ${name === 'All steps' ? 'all steps' : name}`,
    kind: 'plain',
    height: Math.max(
      splitHeight(plate, HEIGHTS.response, 22),
      served.length ? 22 + HEIGHTS.line * (served.length + (view.curves ? 5 : 4)) : 0,
    ),
    scale: { tick: given, parts: 3, lines: true, atZero: true },
    measure: {
      name: 'p95',
      value: (place) => percentilesAt(view, place)?.p95 ?? null,
      tell: seconds,
    },
    series: (grid) => {
      if (parts.length && axis === 'clock')
        return parts.map((part, k) => ({
          ...dashed(grid, tokens.copper, along(view, underLoad(view, part.p95)), k, false),
          ...(k ? {} : { markArea: backdrop(view) }),
        }))
      if (parts.length && byLevels)
        return parts.map((part, k) =>
          dashed(
            grid,
            tokens.copper,
            view.places.map((place): Point => [place.x, stepAt(place, part.id)?.p95_s ?? null]),
            k,
            true,
          ),
        )
      if (parts.length) return parts.map((part) => cloud(view, grid, part.p95, tokens.copper))
      if (!asFan)
        return [
          cloud(view, grid, plate.p50, tokens.ink2),
          { ...cloud(view, grid, plate.p95, tokens.copper), markLine: rules(view) } as SeriesOption,
        ]
      const { layers, middle } = fan(grid, fanned, tokens.copper, axis === 'load')
      return [
        ...layers,
        { ...middle, markLine: rules(view), markArea: backdrop(view) },
        ...(plate.of === 'all' ? curve(view, grid, 'response_s') : []),
        ...(axis === 'load' ? [strokes(grid, tokens.copper, timeSpans(view))] : []),
        ...(served.length ? [dashed(grid, tokens.copper, waited, 1, axis === 'load')] : []),
        ...served.map((one, k) =>
          dashed(grid, tokens.lake, along(view, one.mean_s), k + 2, axis === 'load'),
        ),
      ]
    },
    figures: (place) => {
      if (parts.length)
        return parts.map((part, k) => {
          const step = byLevels ? stepAt(place, part.id) : undefined
          const told = step ? seconds(step.p95_s) : span(part.p95, place)
          return `${DASH_MARKS[k]} ${told} ${part.name}`
        })
      const found = percentilesAt(view, place)
      if (!found) return [`p95 ${span(plate.p95, place)}`]
      const mean =
        axis === 'load' && plate.of === 'all' ? curveAt(view.curves, 'response_s', place) : null
      return [
        `p50 ${seconds(found.p50)}`,
        `p95 ${seconds(found.p95)}`,
        `p99 ${seconds(found.p99)}`,
        ...(mean === null ? [] : [`── ${seconds(mean)} mean by law`]),
        ...(served.length ? [`${DASH_MARKS[1]} ${seconds(meanAt(view, place))} mean`] : []),
        ...served.map(
          (one, k) => `${DASH_MARKS[k + 2]} ${seconds(at(one.mean_s, place))} in ${one.name}`,
        ),
      ]
    },
  }
}

/** The values of a place's bins from the least to the most. */
function span(column: Column, place: Place): string {
  const known = place.bins.map((i) => column[i]).filter((v): v is number => v != null)
  if (known.length < 2) return seconds(known[0])
  const [least, most] = [Math.min(...known), Math.max(...known)]
  return most < 1
    ? `${figure(least * 1000)}–${seconds(most)}`
    : `${seconds(least)}–${seconds(most)}`
}

function errorsRow(view: View): PlateRow {
  const { plate, tokens, axis } = view
  const share = (place: Place): number | null => {
    if (place.level)
      return place.level.completions ? place.level.errors / place.level.completions : 0
    const failed = at(plate.errors, place)
    const done = at(plate.throughput, place)
    return failed === null || done === null || !(failed + done) ? null : failed / (failed + done)
  }
  const onLoad = axis === 'load'
  const kinds = kindsOf(plate)
  const some = plate.errors.some((e) => (e ?? 0) > 0)
  return {
    id: 'errors',
    name: 'Errors',
    kind: 'plain',
    height: Math.max(
      HEIGHTS.errors,
      onLoad || !kinds.length ? 0 : HEIGHTS.line * (kinds.length + 1),
    ),
    // An axis of zeros has no height; give it one so that the first error does not fill the row.
    scale: {
      max: some ? undefined : 1,
      tick: onLoad ? percent : counted,
      parts: 1,
      lines: false,
      atZero: true,
    },
    measure: onLoad
      ? { name: 'errors', value: share, tell: percent }
      : { name: 'errors/s', value: (place) => at(plate.errors, place), tell: figure },
    series: (grid) => {
      if (onLoad || kinds.length < 2)
        return [
          bars(
            grid,
            view.places.map((place): Point => [
              place.x,
              onLoad ? share(place) : at(plate.errors, place),
            ]),
            tokens.brick,
          ),
        ]
      // Told apart by how dark they are, the most frequent the darkest and at the bottom.
      return kinds.map((one, k) => ({
        ...bars(grid, along(view, one.errors), tokens.brick),
        stack: 'errors',
        itemStyle: { color: tokens.brick, opacity: 1 - k / (kinds.length + 1) },
      }))
    },
    figures: (place) =>
      onLoad
        ? [percent(share(place))]
        : [
            `${figure(at(plate.errors, place))} errors/s`,
            ...kinds.map((one) => `${figure(at(one.errors, place) ?? 0)} ${one.kind}`),
          ],
  }
}

/** The kinds of errors, the most frequent first, and the rest as one. */
function kindsOf(plate: Plate): Plate['error_kinds'] {
  const total = (column: Column) => column.reduce<number>((sum, v) => sum + (v ?? 0), 0)
  const sorted = plate.error_kinds.toSorted((a, b) => total(b.errors) - total(a.errors))
  const rest = sorted.slice(MOST_KINDS)
  if (rest.length < 2) return sorted
  const others = plate.t.map((_, i) => rest.reduce((sum, one) => sum + (one.errors[i] ?? 0), 0))
  return [...sorted.slice(0, MOST_KINDS), { kind: `of ${rest.length} other kinds`, errors: others }]
}

/** What came in over the wire; the requests that brought it beside it. */
function receivedRow(view: View): PlateRow {
  const { plate, tokens, axis } = view
  return {
    id: 'received',
    name: 'Received',
    kind: 'plain',
    height: HEIGHTS.received,
    scale: {
      // "30 kB": what stands at a tick has room for so much.
      tick: (value) => amount(value, 'B').replace(/\.0+ /, ' '),
      parts: 1,
      lines: true,
      atZero: true,
    },
    measure: {
      name: 'received',
      value: (place) => at(plate.received, place),
      tell: (value) => amount(value, 'B/s'),
    },
    series: (grid) =>
      axis === 'clock'
        ? [line(grid, tokens.silt, along(view, plate.received))]
        : [cloud(view, grid, plate.received, tokens.ink2)],
    figures: (place) => [
      amount(at(plate.received, place), 'B/s'),
      `${figure(at(plate.requests, place))} requests/s`,
    ],
  }
}

function resourceRow(view: View, resource: Plate['resources'][number]): PlateRow {
  const value = (place: Place) =>
    place.level ? (place.level.utilisation[resource.key] ?? null) : at(resource.utilisation, place)
  const name = resourceName(resource)
  // One below the other, so that one that works more than its fellows is plain to see.
  const each = resource.instances.toReversed()
  const ofEach = (values: Column) => (place: Place) => at(values, place)
  const bands = each.length ? each.map(({ values }) => ofEach(values)) : [value]
  return {
    id: `resource:${resource.key}`,
    name,
    kind: 'strip',
    height: Math.max(HEIGHTS.strip, HEIGHTS.band * each.length),
    scale: { max: 1, tick: null, parts: 1, lines: false, atZero: true },
    measure: { name, max: 1, value, tell: percent },
    series: (grid) => [
      cellRow(
        grid,
        view.places,
        bands.map((value, k) => ({
          low: (k + (k ? BETWEEN : 0)) / bands.length,
          high: (k + 1) / bands.length,
          value,
        })),
        view.tokens,
      ),
    ],
    figures: (place) => {
      if (each.length) {
        const told = resource.instances.map((one) => percent(at(one.values, place)))
        const named = resource.instances.map((one, k) => `${told[k]} ${one.label}`)
        return [told.join(' · '), ...named]
      }
      const count = place.level ? null : resource.waiting && at(resource.waiting, place)
      return [percent(value(place)) + (count ? `, ${users(Math.max(1, count))} wait` : '')]
    },
  }
}
