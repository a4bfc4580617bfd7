/** Two versions of one document put together, from the one both were made from. */
import { diff3Merge } from 'node-diff3'

/** Both changed the same part, differently. */
export interface Clash {
  path: string
  mine: unknown
  theirs: unknown
}

type Plain = Record<string, unknown>
const isObject = (value: unknown): value is Plain =>
  value !== null && typeof value === 'object' && !Array.isArray(value)

/** Text of several lines, of which each stands for itself. */
const isText = (value: unknown): value is string =>
  typeof value === 'string' && value.includes('\n')

export function same(a: unknown, b: unknown): boolean {
  if (a === b) return true
  if (Array.isArray(a) && Array.isArray(b))
    return a.length === b.length && a.every((item, i) => same(item, b[i]))
  if (!isObject(a) || !isObject(b)) return false
  const keys = new Set([...Object.keys(a), ...Object.keys(b)])
  return [...keys].every((key) => same(a[key], b[key]))
}

/** Parts that go by names of their own, each once: they are followed when they move. */
function named(value: unknown): Map<string, Plain> | null {
  if (!Array.isArray(value)) return null
  const found = new Map<string, Plain>()
  for (const item of value) {
    if (!isObject(item) || typeof item.name !== 'string' || found.has(item.name)) return null
    found.set(item.name, item)
  }
  return found
}

/** What `mine` and `theirs` changed of `base`, together; where they clash mine stands. */
export function merged(
  base: unknown,
  mine: unknown,
  theirs: unknown,
): { document: unknown; clashes: Clash[] } {
  const clashes: Clash[] = []
  const together = (b: unknown, m: unknown, t: unknown, path: string): unknown => {
    if (same(m, t) || same(t, b)) return m
    if (same(m, b)) return t
    if (isObject(m) && isObject(t)) {
      const from = isObject(b) ? b : {}
      const made: Plain = {}
      for (const key of new Set([...Object.keys(m), ...Object.keys(t)])) {
        const value = together(from[key], m[key], t[key], path ? `${path}.${key}` : key)
        if (value !== undefined) made[key] = value
      }
      return made
    }
    const lists = [named(b ?? []), named(m), named(t)] as const
    if (lists[0] && lists[1] && lists[2]) return joined(lists[0], lists[1], lists[2], path)
    if (isText(b) && isText(m) && isText(t)) return lines(b, m, t, path)
    clashes.push({ path, mine: m, theirs: t })
    return m
  }
  /** Texts line by line. */
  const lines = (b: string, m: string, t: string, path: string): string =>
    diff3Merge(m.split('\n'), b.split('\n'), t.split('\n'))
      .flatMap(({ ok, conflict }) => {
        if (!conflict) return ok ?? []
        clashes.push({ path, mine: conflict.a.join('\n'), theirs: conflict.b.join('\n') })
        return conflict.a
      })
      .join('\n')
  /** Mine in my order; what they added follows the neighbour it has with them. */
  const joined = (
    b: Map<string, Plain>,
    m: Map<string, Plain>,
    t: Map<string, Plain>,
    path: string,
  ): unknown[] => {
    const order = [...m.keys()]
    let before = -1
    for (const name of t.keys()) {
      const at = order.indexOf(name)
      if (at < 0 && !(b.has(name) && same(b.get(name), t.get(name))))
        order.splice(++before, 0, name)
      else if (at >= 0) before = at
    }
    return order
      .filter((name) => m.has(name) || t.has(name))
      .map((name) => together(b.get(name), m.get(name), t.get(name), `${path}[${name}]`))
      .filter((item) => item !== undefined)
  }
  return { document: together(base, mine, theirs, ''), clashes }
}
