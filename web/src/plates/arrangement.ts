/** Which rows a plate shows, in which order and how high: as somebody arranged them. */

export type Size = 'small' | 'usual' | 'large'
export interface Arrangement {
  /** Rows in their order, as far as somebody moved any. */
  order: string[]
  hidden: string[]
  sizes: Record<string, Size>
  /** The row whose measure is drawn over another one's, by that one. */
  over: Record<string, string>
}

/** What seldom tells more than throughput does is there for who asks for it. */
export const AS_IT_IS: Arrangement = { order: [], hidden: ['received'], sizes: {}, over: {} }
export const FACTORS: Record<Size, number> = { small: 0.6, usual: 1, large: 1.8 }
/** Below that nothing can be read. */
const LEAST_PX = 14

interface Row {
  id: string
  height: number
}

/** All rows in their order: one that nobody has moved stays behind the one it follows by itself. */
export function ordered<T extends Row>(rows: T[], { order }: Arrangement): T[] {
  const known = new Map(rows.map((row) => [row.id, row]))
  const found = order.flatMap((id) => known.get(id) ?? [])
  rows.forEach((row, i) => {
    if (order.includes(row.id)) return
    const before = rows[i - 1]
    const place = before ? found.findIndex((one) => one.id === before.id) + 1 : 0
    found.splice(place, 0, row)
  })
  return found
}

/** Those that are shown, as high as they shall be. The first is there whatever is hidden: a plate has one row at least. */
export function arranged<T extends Row>(rows: T[], how: Arrangement): T[] {
  const all = ordered(rows, how)
  const shown = all.filter((row) => !how.hidden.includes(row.id))
  return (shown.length ? shown : all.slice(0, 1)).map((row) => ({
    ...row,
    height: Math.max(
      Math.min(LEAST_PX, row.height),
      Math.round(row.height * FACTORS[how.sizes[row.id] ?? 'usual']),
    ),
  }))
}

/** The arrangement with a row moved up or down by so many places. */
export function moved(rows: Row[], how: Arrangement, id: string, by: number): Arrangement {
  const order = ordered(rows, how).map((row) => row.id)
  const from = order.indexOf(id)
  const to = from + by
  if (from < 0 || to < 0 || to >= order.length) return how
  order.splice(from, 1)
  order.splice(to, 0, id)
  return { ...how, order }
}

export function toggled(how: Arrangement, id: string): Arrangement {
  const hidden = how.hidden.includes(id)
    ? how.hidden.filter((one) => one !== id)
    : [...how.hidden, id]
  return { ...how, hidden }
}

export function sized(how: Arrangement, id: string, size: Size): Arrangement {
  return { ...how, sizes: { ...how.sizes, [id]: size } }
}

/** The arrangement with another row's measure drawn over a row; empty: none. */
export function overlaid(how: Arrangement, id: string, other: string): Arrangement {
  const over = Object.entries(how.over).filter(([one]) => one !== id)
  return { ...how, over: Object.fromEntries(other ? [...over, [id, other]] : over) }
}

/** What was kept, or nothing where it is no arrangement. */
export function readArrangement(text: string | null): Arrangement {
  try {
    const found = JSON.parse(text ?? 'null') as Partial<Arrangement> | null
    if (!found) return AS_IT_IS
    const texts = (list: unknown): string[] =>
      Array.isArray(list) ? list.filter((one): one is string => typeof one === 'string') : []
    const sizes = Object.entries(found.sizes ?? {}).filter(([, size]) => size in FACTORS)
    return {
      order: texts(found.order),
      hidden: Array.isArray(found.hidden) ? texts(found.hidden) : AS_IT_IS.hidden,
      sizes: Object.fromEntries(sizes),
      over: Object.fromEntries(
        Object.entries(found.over ?? {}).filter(([, other]) => typeof other === 'string'),
      ),
    }
  } catch {
    return AS_IT_IS
  }
}
