/** Rows of cells whose darkness is a share: resource strips, and distributions over time.
 *
 * A long run has tens of thousands of them on its plate, drawn anew each second: so each row is one picture, and no cell
 * an element of the chart.
 */
import type { CustomSeriesRenderItemAPI, CustomSeriesRenderItemParams, SeriesOption } from 'echarts'
import type { Tokens } from '@/ui/theme'
import type { Place } from './view'

/** A part of the row's height (0..1), and the share 0..1 of each place along it; null is not drawn. */
export interface Band {
  low: number
  high: number
  value: (place: Place) => number | null
}

export function cellRow(
  grid: number,
  places: Place[],
  bands: Band[],
  tokens: Tokens,
): SeriesOption {
  return {
    type: 'custom',
    xAxisIndex: grid,
    yAxisIndex: grid,
    data: places.length ? [[places[0]?.from ?? 0, places.at(-1)?.to ?? 0, 0, 1]] : [],
    encode: { x: [0, 1], y: [2, 3] },
    clip: true,
    silent: true,
    renderItem: (params: CustomSeriesRenderItemParams, api: CustomSeriesRenderItemAPI) => {
      const { x, y, width, height } = params.coordSys as unknown as Box
      const [zero = 0] = api.coord([0, 0])
      const [one = 0] = api.coord([1, 0])
      const along = (value: number) => zero + value * (one - zero) - x
      const box = { width, height, sharp: api.getDevicePixelRatio() }
      const image = picture(places, bands, along, box, tokens.ink)
      return { type: 'image', style: { image, x, y, width, height } }
    },
  }
}

interface Box {
  x: number
  y: number
  width: number
  height: number
}

/** The cells in a box of so many pixels, of which the screen has `sharp` each. */
function picture(
  places: Place[],
  bands: Band[],
  along: (value: number) => number,
  { width, height, sharp }: Pick<Box, 'width' | 'height'> & { sharp: number },
  ink: string,
): HTMLCanvasElement {
  const canvas = document.createElement('canvas')
  canvas.width = Math.max(1, Math.round(width * sharp))
  canvas.height = Math.max(1, Math.round(height * sharp))
  const brush = canvas.getContext('2d')
  if (!brush) return canvas
  brush.scale(sharp, sharp)
  brush.fillStyle = ink
  for (const place of places) {
    const left = along(place.from)
    const right = along(place.to)
    if (right < 0 || left > width) continue
    for (const { low, high, value } of bands) {
      const share = value(place)
      if (share === null) continue
      brush.globalAlpha = darkness(share)
      brush.fillRect(left, (1 - high) * height, Math.max(1, right - left), (high - low) * height)
    }
  }
  return canvas
}

/** Darkness of a cell: slow at first, so that the last tenth before full is plain to see. */
export function darkness(share: number): number {
  const u = Math.min(1, Math.max(0, share))
  return 0.05 + 0.9 * u ** 1.8
}

/** The stretch of the load axis a level stands for: half-way to its neighbours, within the axis. */
export function reach(levels: number[], k: number, end: number): [number, number] {
  const here = levels[k] ?? 0
  const before = levels[k - 1]
  const after = levels[k + 1]
  const half =
    ((after ?? here) - (before ?? here)) / (after !== undefined && before !== undefined ? 2 : 1) / 2
  const from = before === undefined ? here - half : (before + here) / 2
  const to = after === undefined ? here + half : (here + after) / 2
  return [Math.max(0, from), Math.min(end, to)]
}
