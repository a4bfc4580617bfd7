/** Where the components of a system stand on its map: pure, from names and calls to boxes and lines. */

export interface MapComponent {
  name: string
  calls: string[]
}

export interface Box {
  name: string
  x: number
  y: number
}

export interface Line {
  from: string
  to: string
  path: string
}

export interface SystemMap {
  boxes: Box[]
  lines: Line[]
  width: number
  height: number
}

export const BOX = { width: 168, height: 62 }
const GAP = { x: 64, y: 18 }

/** Callers stand left of what they call; those nobody calls come first. */
export function drawMap(components: MapComponent[]): SystemMap {
  const names = new Set(components.map((c) => c.name))
  const calls = new Map(components.map((c) => [c.name, c.calls.filter((n) => names.has(n))]))
  const column = columns(components, calls)
  const byColumn = new Map<number, string[]>()
  for (const { name } of components) {
    const place = column.get(name) ?? 0
    byColumn.set(place, [...(byColumn.get(place) ?? []), name])
  }
  const tallest = Math.max(1, ...[...byColumn.values()].map((own) => own.length))
  const height = tallest * (BOX.height + GAP.y) - GAP.y + 4
  const boxes: Box[] = []
  for (const [place, own] of [...byColumn].toSorted(([a], [b]) => a - b)) {
    const top = (height - own.length * (BOX.height + GAP.y) + GAP.y) / 2
    own.forEach((name, i) =>
      boxes.push({ name, x: 2 + place * (BOX.width + GAP.x), y: top + i * (BOX.height + GAP.y) }),
    )
  }
  const at = new Map(boxes.map((box) => [box.name, box]))
  const lines = components.flatMap(({ name }) =>
    (calls.get(name) ?? []).map((to) => ({
      from: name,
      to,
      path: curve(at.get(name) as Box, at.get(to) as Box),
    })),
  )
  const width = (Math.max(0, ...byColumn.keys()) + 1) * (BOX.width + GAP.x) - GAP.x + 4
  return { boxes, lines, width, height }
}

/** Each component's column: one right of the last that calls it. A circle is broken where it closes. */
function columns(components: MapComponent[], calls: Map<string, string[]>): Map<string, number> {
  const found = new Map<string, number>()
  const place = (name: string, depth: number, way: Set<string>) => {
    if (way.has(name) || (found.get(name) ?? -1) >= depth) return
    found.set(name, depth)
    for (const next of calls.get(name) ?? []) place(next, depth + 1, new Set([...way, name]))
  }
  const called = new Set([...calls.values()].flat())
  for (const { name } of components) if (!called.has(name)) place(name, 0, new Set())
  for (const { name } of components) if (!found.has(name)) place(name, 0, new Set())
  return found
}

function curve(from: Box, to: Box): string {
  const x1 = from.x + BOX.width
  const y1 = from.y + BOX.height / 2
  const x2 = to.x
  const y2 = to.y + BOX.height / 2
  const bend = Math.max(24, (x2 - x1) / 2)
  return `M${x1},${y1} C${x1 + bend},${y1} ${x2 - bend},${y2} ${x2 - 2},${y2}`
}
