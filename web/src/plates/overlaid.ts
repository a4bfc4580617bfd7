/** Another row's measure over a row: the same axis, a scale of its own. */
import { DASHES, line } from './lines'
import type { Measure, PlateRow } from './rows'
import type { Point, View } from './view'

const LINE_PX = 18
export const OVER_MARK = '┈┈'

/** Whether another row's measure can be drawn over this one: a strip is too thin for a line. */
export function carries(row: Pick<PlateRow, 'kind'>): boolean {
  return row.kind === 'plain'
}

export interface Overlaid extends PlateRow {
  over?: Measure
}

/** The rows, each with the measure that is to be drawn over it, its figure below its own. */
export function overlay(rows: PlateRow[], over: Record<string, string>): Overlaid[] {
  return rows.map((row) => {
    const other = over[row.id]
    const measure =
      other !== row.id && carries(row) ? rows.find((one) => one.id === other)?.measure : undefined
    if (!measure) return row
    return {
      ...row,
      over: measure,
      height: row.height + LINE_PX,
      figures: (place) => [
        ...row.figures(place),
        `${OVER_MARK} ${measure.tell(measure.value(place))} ${measure.name}`,
      ],
    }
  })
}

/** The measure as a line of the row in `grid`, along the scale `axis`. */
export function overLine(view: View, measure: Measure, grid: number, axis: number) {
  const points = view.places.map((place): Point => [place.x, measure.value(place)])
  return {
    ...line(grid, view.tokens.ink, points),
    yAxisIndex: axis,
    lineStyle: { color: view.tokens.ink, width: 1.2, type: DASHES[2] },
    z: 4,
  }
}
