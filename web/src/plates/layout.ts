/** Rows stacked on one shared horizontal axis. */

export interface Placed {
  top: number
}

export const LEFT = 58
export const RIGHT = 232
/** Where there is no room beside the rows, what they are and their figures stand above them. */
export const CAPTION = 20
export const NARROW_RIGHT = 14
const TOP = 22
const GAP = { plain: 16, strip: 7, pin: 12 }
const AXIS = 40

/** The rows with their places, and the height of all; each with so much room above it. */
export function stack<T extends { height: number; kind: keyof typeof GAP }>(
  rows: T[],
  above = 0,
): { rows: (T & Placed)[]; height: number } {
  let top = TOP
  const placed = rows.map((row) => {
    const here = { ...row, top: top + above }
    top += above + row.height + GAP[row.kind]
    return here
  })
  return { rows: placed, height: top + AXIS }
}
