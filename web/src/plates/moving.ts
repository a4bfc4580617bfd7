/** What moves with a row of a run, in words and as a scatter. */
import type { Beside, Line } from '@/api/moving'
import { amount, counted, given, percent } from '@/ui/format'
import type { Box } from './shape'

export interface Scatter {
  points: { x: number; y: number; metric: number; row: number }[]
  /** The ends of both scales. */
  metric: [number, number]
  row: [number, number]
  /** What spans so much that it is drawn along a logarithmic scale. */
  logarithmic: boolean
}
const CLEARLY_CHANCE = 0.5
const WIDE = 20
/** Clocks and seconds are no nearer to each other. */
const LEAST_LAG_S = 3

/** What a metric is called, without its component. */
export function nameOf({ name, of }: Pick<Line, 'name' | 'of'>): string {
  return of ? `${name} of ${of}` : name
}

/** How it moves: "rises 4 s before it". */
export function movesHow(line: Pick<Line, 'apart'>, what = 'it'): string {
  const { correlation, lag_s } = line.apart
  const verb = correlation < 0 ? 'falls' : 'rises'
  if (Math.abs(lag_s) < LEAST_LAG_S) return `${verb} with ${what}`
  return `${verb} ${given(Math.abs(lag_s))} ${lag_s > 0 ? 'before' : 'after'} ${what}`
}

/** How many of those at least as strong are expected to be chance. */
export function chance(share: number): string {
  if (share < 0.001) return '< 0.1 %'
  return share > CLEARLY_CHANCE ? 'likely' : `${(share * 100).toFixed(share < 0.0995 ? 1 : 0)} %`
}

/** What the whole says, the most telling sentence first. */
export function verdict(beside: Beside): string[] {
  const { title, lines, metrics, blocks, block_s, unexplained, enough } = beside
  if (!beside.answer)
    return [
      `Nothing can be said of ${title}: too little of it was measured here, or it stood still. Twelve blocks of ${block_s} s are needed at least.`,
    ]
  const compared = `Compared with ${counted(metrics, 'metric')} in ${counted(blocks, 'block')} of ${block_s} s`
  const reach = `reaches ${percent(unexplained)} of its mean beyond what the load explains`
  const named = lines.filter((line) => line.standing === 'moves')
  const first = named[0]
  if (!enough)
    return [
      `${upper(title)} is about what the load makes of it: there is little to look for.`,
      `It ${reach}. ${compared}.`,
    ]
  if (!first)
    return [
      `${upper(title)} ${reach}, and no metric moves with it for sure: what does may not be measured, or too short a time.`,
      `${compared}.`,
    ]
  const others = named.length > 1 ? ` So do ${named.length - 1} more.` : ''
  return [
    `${first.component ? `${first.component} ${nameOf(first)}` : upper(nameOf(first))} ${movesHow(first, title)}.${others}`,
    `${upper(title)} ${reach}. ${compared}; of those named, ${Math.round(beside.most_false * 100)} % at most are expected to be chance.`,
  ]
}

function upper(text: string): string {
  return text.charAt(0).toUpperCase() + text.slice(1)
}

/** The row's blocks against those of a metric; null where either is unknown everywhere or stands still. */
export function scatterOf(
  line: Pick<Line, 'values'>,
  row: Beside['values'],
  box: Box,
): Scatter | null {
  const pairs = line.values.flatMap((metric, i) => {
    const own = row[i]
    return metric === null || own == null ? [] : [{ metric, row: own }]
  })
  const ends = (of: 'metric' | 'row'): [number, number] => {
    const all = pairs.map((pair) => pair[of])
    return [Math.min(...all), Math.max(...all)]
  }
  if (!pairs.length) return null
  const [metric, own] = [ends('metric'), ends('row')]
  if (metric[0] === metric[1] || own[0] === own[1]) return null
  const along = (value: number, [least, most]: [number, number]) => (value - least) / (most - least)
  const logarithmic = own[0] > 0 && own[1] > WIDE * own[0]
  const up = (value: number) =>
    logarithmic ? along(Math.log(value), [Math.log(own[0]), Math.log(own[1])]) : along(value, own)
  return {
    metric,
    row: own,
    logarithmic,
    points: pairs.map((pair) => ({
      ...pair,
      x: box.left + along(pair.metric, metric) * (box.right - box.left),
      y: box.bottom - up(pair.row) * (box.bottom - box.top),
    })),
  }
}

/** What a scatter shows, in words. */
export function caption(line: Line, title: string, logarithmic: boolean): string {
  const { lag_s } = line.apart
  const shift =
    Math.abs(lag_s) < LEAST_LAG_S
      ? ''
      : `, ${given(Math.abs(lag_s))} ${lag_s > 0 ? 'earlier' : 'later'}`
  const scale = logarithmic ? '; upwards a logarithmic scale' : ''
  return `${upper(title)} against ${line.component} ${nameOf(line)}${shift}, block by block, as they are${scale}.`
}

/** What a screen reader says of a scatter. */
export function described(
  line: Line,
  { title, unit }: Pick<Beside, 'title' | 'unit'>,
  at: Scatter,
): string {
  const ends = ([least, most]: [number, number], of: string) =>
    `${amount(least, of)} to ${amount(most, of)}`
  return `${upper(title)}, ${ends(at.row, unit)}, against ${line.component} ${nameOf(line)}, ${ends(at.metric, line.unit)}: ${at.points.length} blocks.`
}
