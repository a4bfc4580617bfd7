/** Lanes of users as a picture: ink where one waits for an answer, blank where not, brick where a step failed. */
export const FAILED = 10

type Colour = [number, number, number]

/** Red, green and blue of #rrggbb, or of #rgb. */
export function colour(hex: string): Colour {
  const full = hex.length === 4 ? hex.replace(/[^#]/g, (c) => c + c) : hex
  return [1, 3, 5].map((i) => parseInt(full.slice(i, i + 2), 16)) as Colour
}

/** The pixels of so many lanes of `bins`: red, green, blue and how dense, a byte each. */
export function pixels(cells: Uint8Array, ink: string, brick: string) {
  const [dark, bad] = [colour(ink), colour(brick)]
  const found = new Uint8ClampedArray(new ArrayBuffer(cells.length * 4))
  cells.forEach((cell, i) => {
    const [r, g, b] = cell === FAILED ? bad : dark
    found.set([r, g, b, cell === FAILED ? 255 : Math.round((cell / 9) * 230)], i * 4)
  })
  return found
}

/** How high a lane is, in px, for all of them to be seen. */
export function laneHeight(lanes: number): number {
  return Math.min(12, Math.max(0.25, 420 / Math.max(1, lanes)))
}
