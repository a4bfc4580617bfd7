/** Rows stacked on one shared horizontal axis. */

export interface Row {
  id: string
  name: string
  top: number
  height: number
}

export interface Layout {
  rows: Row[]
  height: number
}

export const LEFT = 58
export const RIGHT = 232
const TOP = 22
const GAP = 16
const STRIP_GAP = 7
const PIN_GAP = 12
const AXIS = 40

export function stack(rows: { id: string; name: string; height: number }[]): Layout {
  let top = TOP
  const placed = rows.map((row) => {
    const here = { ...row, top }
    top +=
      row.height +
      (row.id === 'blur' || row.id.startsWith('resource:')
        ? STRIP_GAP
        : row.id.startsWith('pin:')
          ? PIN_GAP
          : GAP)
    return here
  })
  return { rows: placed, height: top + AXIS }
}
