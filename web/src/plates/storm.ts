/** How soon many were ready: the vessel that fills, and the marks at its side. */
import type { StormDisk, StormFindings } from '@/api/changes'
import { amount } from '@/ui/format'

type Values = (number | null)[]

/** What was going on meanwhile, on the clock of the storm: a line, or one for reading and one for writing. */
export interface DrawnStrip {
  words: string
  lines: { op: 'read' | 'write' | null; values: Values }[]
  from: number
  every: number
  most: number
  told: string
}

/** From which moment to which the picture goes (s after it was asked for). */
export function spanOf(found: StormFindings): [number, number] {
  const ends = [
    found.accepted_s ?? 0,
    ...found.curve.map((one) => one.after_s),
    ...around(found).map((one) => one.from_s + one.every_s * one.values.length),
  ]
  const starts = around(found).map((one) => one.from_s)
  const last = Math.max(1, ...ends)
  return [Math.min(0, ...starts), last]
}

function around(found: StormFindings) {
  return [...found.strips, ...found.disks]
}

/** Resources by how busy they were, then of each component's disks operations, their time and their size. */
export function stripsOf(found: StormFindings): DrawnStrip[] {
  const busy = found.strips.map((one) =>
    drawn(one.words.replaceAll('`', ''), 'share', 0.05, one, [{ op: null, values: one.values }]),
  )
  const components = [...new Set(found.disks.map((one) => one.component))]
  const disks = components.flatMap((component) => {
    const own = found.disks.filter((one) => one.component === component)
    const of = (words: string, unit: string, pick: (use: StormDisk['before']) => number | null) =>
      drawn(
        `${component} disk ${words}`,
        unit,
        0,
        own[0],
        own.map((one) => ({ op: one.op, values: one.values.map(pick) })),
      )
    return [
      of('rate', '/s', (use) => use.rate),
      of('time', 's', (use) => use.took_s),
      of('block', 'B', (use) => use.size_bytes),
    ]
  })
  return [...busy, ...disks.filter((one) => one.most > 0)]
}

function drawn(
  words: string,
  unit: string,
  least: number,
  place: { from_s: number; every_s: number } | undefined,
  lines: DrawnStrip['lines'],
): DrawnStrip {
  const highest = Math.max(0, ...lines.flatMap((line) => line.values.map((value) => value ?? 0)))
  const told = `up to ${amount(highest, unit)}`
  const [from, every] = [place?.from_s ?? 0, place?.every_s ?? 1]
  return { words, lines, from, every, most: Math.max(least, highest), told }
}

/** Corners of the curve, a step for each that came: moment and how many were ready. */
export function steps(found: StormFindings, until: number): [number, number][] {
  const corners: [number, number][] = [[0, 0]]
  let before = 0
  for (const one of found.curve) {
    corners.push([one.after_s, before], [one.after_s, one.ready])
    before = one.ready
  }
  corners.push([until, before])
  return corners
}

/** Marks that were reached, those that would cover each other as one. */
export function marksOf(found: StormFindings, y: (ready: number) => number, least: number) {
  const kept: { shares: number[]; after: number; y: number }[] = []
  for (const one of [...found.marks].sort((a, b) => a.share - b.share)) {
    if (one.after_s === null) continue
    const at = y((one.share / 100) * found.asked)
    const last = kept.at(-1)
    if (last && Math.abs(last.y - at) < least) {
      last.shares.push(one.share)
      last.after = one.after_s
    } else kept.push({ shares: [one.share], after: one.after_s, y: at })
  }
  return kept
}
