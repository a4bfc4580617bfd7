/** Regions side by side: the plate of each, drawn alike, and how each stands by the planner's thresholds. */
import { at, viewOf, type Column, type Place, type PlateInput } from './view'

/** Rows that tell of people; what resources do is common to all regions. */
export const OF_PEOPLE = ['load', 'throughput', 'response', 'errors']
type Region = PlateInput['plate']['regions'][number]

export interface RegionPlate {
  id: string
  name: string
  input: PlateInput
}

/** The plate of each region, with scales that are the same in all. */
export function regionPlates(input: PlateInput): RegionPlate[] {
  const own = input.plate.regions.map((region) => ({
    id: region.id,
    name: region.name,
    input: ofRegion(input, region),
  }))
  const highest = (pick: (one: PlateInput) => Column[]) =>
    rounded(
      own.flatMap((one) => pick(one.input).flat()).reduce<number>((a, b) => Math.max(a, b ?? 0), 0),
    )
  const most = {
    load: highest(({ plate }) => [plate.planned, plate.users]),
    throughput: highest(({ plate }) => [plate.throughput]),
    response: highest(underLoad),
    errors: highest(({ plate }) => [plate.errors]),
  }
  return own.map((one) => ({ ...one, input: { ...one.input, beside: { most } } }))
}

/** Percentiles while there was load: those after it would set the scale of all. */
function underLoad(input: PlateInput): Column[] {
  const { loaded } = viewOf(input)
  return [input.plate.p99.map((value, i) => (loaded[i] ? value : null))]
}

function ofRegion(input: PlateInput, region: Region): PlateInput {
  const { plate, profile, arrangement } = input
  const groups = plate.groups.filter((group) => group.region === region.name)
  const sum = (columns: Column[]): Column =>
    plate.t.map((_, i) => {
      const known = columns.map((column) => column[i]).filter((v): v is number => v != null)
      return known.length ? known.reduce((a, b) => a + b, 0) : null
    })
  const users = sum(groups.map((group) => group.present))
  const ordered = sum(groups.map((group) => group.ordered))
  const unknown = plate.t.map(() => null)
  const line = ordered.map((value) => value ?? 0)
  return {
    ...input,
    plate: {
      ...plate,
      ...region,
      of: region.id,
      users,
      planned: profile.axis.kind === 'users' ? ordered : users,
      in_flight: unknown,
      blur: unknown,
      journeys: unknown,
      received: unknown,
      error_kinds: [],
      served: [],
      groups,
      parts: [],
      regions: [],
      resources: [],
      pins: [],
    },
    // What was ordered of a region so far is known; how it goes on is told of all together.
    profile: {
      ...profile,
      axis: { ...profile.axis, peak: line.reduce((a, b) => Math.max(a, b), 0) },
      t: plate.t.map((t) => t ?? 0),
      users: line,
      endless: false,
      levels: [],
    },
    levels: [],
    comfort: null,
    saturation: null,
    prospect: null,
    goals: input.goals
      .filter((goal) => goal.of === 'all')
      .map((goal) => ({ ...goal, of: region.id })),
    // How many wait, and what comes in, is not counted by region.
    arrangement: {
      ...arrangement,
      hidden: [
        ...arrangement.hidden,
        'blur',
        'received',
        ...(input.axis === 'load' ? ['load'] : []),
      ],
    },
  }
}

/** A plate of what all regions have in common. */
export function commonPlate(input: PlateInput): PlateInput {
  const { arrangement } = input
  return {
    ...input,
    arrangement: { ...arrangement, hidden: [...arrangement.hidden, ...OF_PEOPLE] },
  }
}

/** The next number upwards that ticks divide well. */
function rounded(value: number): number {
  if (value <= 0) return 0
  const unit = 10 ** Math.floor(Math.log10(value))
  return unit * ([1, 1.5, 2, 3, 4, 5, 6, 8, 10].find((by) => by * unit >= value * 1.001) ?? 10)
}

/** From where on a region is near what the planner allows, and beyond it: seconds, and shares of steps that fail. */
export interface Thresholds {
  slow: [near: number, beyond: number]
  failing: [near: number, beyond: number]
}

export type RegionWord = 'within' | 'near' | 'beyond' | 'nobody' | 'unknown'

export interface RegionStand {
  id: string
  name: string
  users: number | null
  throughput: number | null
  /** In a middling second of those looked at. */
  p95: number | null
  failing: number | null
  word: RegionWord
}

export const LATELY_S = 30

/** How each region stands at a moment, or by the last half minute with load. */
export function regionStands(
  plates: RegionPlate[],
  moment: number | null,
  thresholds: Thresholds,
): RegionStand[] {
  return plates.map(({ id, name, input }) => {
    const { plate } = input
    const place = lately(input, moment)
    const [users, throughput, errors] = [plate.users, plate.throughput, plate.errors].map(
      (column) => (place ? at(column, place) : null),
    ) as [number | null, number | null, number | null]
    const p95 = place ? middling(plate.p95, place) : null
    const all = (throughput ?? 0) + (errors ?? 0)
    const failing = all > 0 ? (errors ?? 0) / all : null
    return {
      id,
      name,
      users,
      throughput,
      p95,
      failing,
      word: wordOf(users, p95, failing, thresholds),
    }
  })
}

function lately({ plate, ...input }: PlateInput, moment: number | null): Place | null {
  const half = Math.max(LATELY_S, plate.bin_s) / 2
  const { loaded } = viewOf({ plate, ...input, axis: 'clock' })
  const end = moment === null ? (plate.t[loaded.lastIndexOf(true)] ?? null) : moment + half
  if (end === null) return null
  const from = end - 2 * half
  const bins = plate.t.flatMap((t, i) =>
    t !== null && t > from && t <= end && (moment !== null || loaded[i]) ? [i] : [],
  )
  return bins.length ? { x: end, from, to: end, level: null, bins } : null
}

function middling(column: Column, place: Place): number | null {
  const known = place.bins
    .map((i) => column[i])
    .filter((v): v is number => v != null)
    .sort((a, b) => a - b)
  return known[Math.floor(known.length / 2)] ?? null
}

function wordOf(
  users: number | null,
  p95: number | null,
  failing: number | null,
  { slow, failing: failed }: Thresholds,
): RegionWord {
  if (p95 === null && failing === null) return users === null || users > 0 ? 'unknown' : 'nobody'
  const beyond = (which: 0 | 1) => (p95 ?? 0) > slow[which] || (failing ?? 0) > failed[which]
  return beyond(1) ? 'beyond' : beyond(0) ? 'near' : 'within'
}

/** What thresholds must be to mean anything; null where they do. */
export function problemOf({ slow, failing }: Thresholds): string | null {
  const all = [...slow, ...failing]
  if (all.some((value) => !Number.isFinite(value) || value <= 0)) return 'Give numbers above 0.'
  if (failing.some((value) => value > 1)) return 'At most 100 % can fail.'
  if (slow[0] > slow[1] || failing[0] > failing[1]) return '“Near” must not be above “beyond”.'
  return null
}

/** Those that were kept, if they mean anything; otherwise of the strictest objective on all steps. */
export function readThresholds(text: string | null, goals: PlateInput['goals']): Thresholds {
  const strictest = Math.min(...goals.map((goal) => goal.limit))
  const limit = Number.isFinite(strictest) ? strictest : 1
  const usual: Thresholds = { slow: [0.8 * limit, limit], failing: [0.01, 0.05] }
  try {
    const found = JSON.parse(text ?? 'null') as Thresholds | null
    return found && problemOf(found) === null ? found : usual
  } catch {
    return usual
  }
}

export interface MapNode {
  stand: RegionStand
  x: number
  y: number
  /** px, by its part of the users. */
  radius: number
  /** Of the way to the system, by its part of what is done, px. */
  width: number
}

const RADII = [13, 34] as const
const WIDTHS = [1, 9] as const

/** Regions around the system, in their order from the left over the top: where they lie is not known. */
export function mapNodes(stands: RegionStand[], width: number, height: number): MapNode[] {
  const most = (pick: (one: RegionStand) => number | null) =>
    stands.reduce((a, one) => Math.max(a, pick(one) ?? 0), 0) || 1
  const [users, done] = [most((one) => one.users), most((one) => one.throughput)]
  return stands.map((stand, i) => {
    const angle = Math.PI + (2 * Math.PI * i) / stands.length
    return {
      stand,
      x: width / 2 + (width / 2 - 110) * Math.cos(angle),
      y: height / 2 + (height / 2 - 62) * Math.sin(angle),
      radius: RADII[0] + (RADII[1] - RADII[0]) * Math.sqrt((stand.users ?? 0) / users),
      width: WIDTHS[0] + ((WIDTHS[1] - WIDTHS[0]) * (stand.throughput ?? 0)) / done,
    }
  })
}
