/** When a picture is worth drawing anew: a second of a long run is narrower than a pixel, and drawing it costs as much as
 * drawing all of them. The figures beside the rows are always the newest. */
import type { PlateInput } from './view'

/** A plate is some so many pixels wide. */
const WIDE_PX = 500
/** What was measured is on the picture within so many seconds, however long the run. */
const MOST_S = 2

/** Whether `now` shows anything that a picture of `drawn` does not, but for less than a pixel of time. */
export function worthDrawing(now: PlateInput, drawn: PlateInput): boolean {
  if (now === drawn) return false
  if (now.axis !== 'clock' || now.window || told(now) !== told(drawn)) return true
  if (LOOKS.some((name) => now[name] !== drawn[name])) return true
  const [newest, old] = [now, drawn].map(({ plate }) => plate.start.at(-1) ?? -1)
  const grown = (newest ?? 0) - (old ?? 0)
  const span = Math.max(now.profile.duration_s, newest ?? 0)
  return grown < 0 || grown >= Math.min(MOST_S, Math.max(now.plate.bin_s, span / WIDE_PX))
}

const LOOKS = ['axis', 'profile', 'levels', 'prospect', 'arrangement', 'tokens', 'window'] as const

/** What is small and made anew with each look, as a text. */
function told({ plate, flags, goals, comfort, saturation, beside }: PlateInput): string {
  const { first, bin_s, of, parts, pins, resources, served, error_kinds } = plate
  const rows = [parts, pins, served, error_kinds].map((list) => list.length)
  const instances = resources.map((one) => one.instances.length)
  const shape = [first, bin_s, of, rows, instances]
  return JSON.stringify([shape, flags, goals, comfort, saturation, beside])
}
