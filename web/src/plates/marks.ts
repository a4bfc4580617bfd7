/** Marks on a run's plate: limits of objectives, moments worth a flag, bands of load. */
import type { Boundary, PlateInput, View } from './view'

/** What a letter of a flag's name takes of the axis, at the usual width of a plate. */
const LETTER = 0.0155
const LABEL_PLACES = ['insideStartTop', 'insideMiddleTop', 'insideEndTop'] as const

/** The limits of objectives, in the row that shows what they are about. */
export function rules({ goals: all, plate, tokens }: PlateInput) {
  const goals = all.filter((goal) => goal.of === plate.of)
  if (!goals.length) return undefined
  return {
    symbol: 'none',
    silent: true,
    lineStyle: { color: tokens.brick, width: 1, type: 'dashed' as const, opacity: 0.8 },
    label: {
      position: 'insideStartTop' as const,
      color: tokens.brick,
      fontSize: 12,
      formatter: '{b}',
    },
    data: goals.map((goal, i) => ({
      name: goal.label,
      yAxis: goal.limit,
      lineStyle: { color: tokens.brick },
      // Side by side, since limits may lie close together.
      label: { position: LABEL_PLACES[i % LABEL_PLACES.length] },
    })),
  }
}

export function flags({ flags, tokens, x }: Pick<View, 'flags' | 'tokens' | 'x'>) {
  // Names that would stand on each other are left out; their lines stay.
  const letter = (x.max - x.min) * LETTER
  let taken = -Infinity
  const data = [...flags]
    .filter((flag) => flag.t >= x.min && flag.t <= x.max)
    .sort((a, b) => a.t - b.t)
    .map((flag) => {
      const half = ((flag.text.length + 2) / 2) * letter
      const show = flag.t - half >= taken
      if (show) taken = flag.t + half
      return { name: flag.text, xAxis: flag.t, label: { show } }
    })
  return {
    symbol: ['none', 'none'],
    silent: true,
    lineStyle: { color: tokens.ink2, width: 1, type: 'solid' as const },
    label: { color: tokens.ink2, fontSize: 12, formatter: '⚑ {b}', position: 'end' as const },
    data,
  }
}

/** On the clock what tells nothing: the time in which nobody is wanted any more and users finish what they are in, and
 * stretches that people left out. */
export function untold(view: View) {
  const { plate, tokens } = view
  const areas: object[][] = (view.aside ?? []).map((one) => [
    { xAxis: one.from_s, name: 'left out' },
    { xAxis: one.until_s },
  ])
  const first = view.loaded.lastIndexOf(true) + 1
  const from = plate.t[first]
  const to = plate.t.at(-1)
  if (view.loaded.some(Boolean) && from != null && to != null)
    areas.push([{ xAxis: from - plate.bin_s / 2 }, { xAxis: to + plate.bin_s / 2 }])
  if (!areas.length) return undefined
  return {
    silent: true,
    itemStyle: { color: tokens.rule, opacity: 0.45 },
    label: { color: tokens.ink2, fontSize: 12, position: 'insideTop' as const },
    data: areas as [object, object][],
  }
}

interface Stop {
  offset: number
  color: string
}

/** Comfortable, strained, saturated up to `end` users: bands whose edges are as blurred as they are uncertain. */
export function bands(input: PlateInput, end: number, named: boolean) {
  const { comfort, saturation, tokens } = input
  const edges = [comfort, saturation].filter((b): b is Boundary => b !== null)
  if (!edges.length) return undefined
  const firstUnsafe = comfort && (!saturation || comfort.value < saturation.value) ? comfort : null
  const pieces: { name: string; color: string; from: Boundary | null; to: Boundary | null }[] = []
  const first = firstUnsafe ?? saturation
  pieces.push({ name: '○ comfortable', color: tokens.moss, from: null, to: first })
  if (firstUnsafe)
    pieces.push({ name: '◐ strained', color: tokens.ochre, from: firstUnsafe, to: saturation })
  if (saturation)
    pieces.push({ name: '● saturated', color: tokens.ink, from: saturation, to: null })
  return {
    silent: true,
    label: { show: named, color: tokens.ink2, fontSize: 12, position: 'top' as const, distance: 3 },
    data: pieces.map((piece) => {
      const low = piece.from?.low ?? 0
      const high = Math.min(end, piece.to?.high ?? end)
      const stops = fade(piece, low, high, piece.color)
      return [
        {
          name: piece.name,
          xAxis: low,
          itemStyle: {
            color: { type: 'linear' as const, x: 0, y: 0, x2: 1, y2: 0, colorStops: stops },
            opacity: 0.13,
          },
        },
        { xAxis: high },
      ] as [object, object]
    }),
  }
}

function fade(
  piece: { from: Boundary | null; to: Boundary | null },
  low: number,
  high: number,
  color: string,
): Stop[] {
  const at = (users: number) => Math.min(1, Math.max(0, (users - low) / (high - low || 1)))
  const clear = `${color}00`
  const stops: Stop[] = [{ offset: 0, color: piece.from ? clear : color }]
  if (piece.from) stops.push({ offset: at(piece.from.high), color })
  if (piece.to) stops.push({ offset: Math.max(at(piece.to.low), stops.at(-1)?.offset ?? 0), color })
  stops.push({ offset: 1, color: piece.to ? clear : color })
  return stops
}
