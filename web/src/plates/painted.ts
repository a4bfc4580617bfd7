/** For tests: what a row of cells paints, each cell as from, to, low, high and how dark. */
import { vi } from 'vitest'

interface Painting {
  renderItem: (params: unknown, api: unknown) => unknown
}

export function painted(series: unknown): number[][] {
  const cells: number[][] = []
  const brush = {
    globalAlpha: 1,
    scale: () => undefined,
    fillRect: (x: number, y: number, width: number, height: number) =>
      cells.push([x, x + width, 1 - y - height, 1 - y, brush.globalAlpha].map(rounded)),
  }
  const canvas = { getContext: () => brush } as unknown as HTMLElement
  const made = vi.spyOn(document, 'createElement').mockReturnValue(canvas)
  const coordSys = { x: 0, y: 0, width: 1000, height: 1 }
  const api = { coord: ([x = 0]: number[]) => [x, 0], getDevicePixelRatio: () => 1 }
  ;(series as Painting).renderItem({ coordSys }, api)
  made.mockRestore()
  return cells
}

const rounded = (value: number) => Number(value.toFixed(6))
