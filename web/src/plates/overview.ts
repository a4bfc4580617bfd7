/** The whole run in a slim picture: its load as terrain, the throughput as a line, and the stretch that is looked at. */
import type { Stretch } from './dragging'
import type { Column, Plate, Profile } from './view'

export const WIDTH = 1000
export const HEIGHT = 44

export interface Overview {
  end: number
  terrain: string
  throughput: string
}

export function overview(plate: Plate, profile: Profile): Overview {
  const last = (plate.t.at(-1) ?? 0) + plate.bin_s / 2
  const end = Math.max(last, profile.at_most || profile.endless ? last : profile.duration_s, 1)
  const load = profile.axis.kind === 'users' ? profile.users : profile.rate
  const most = Math.max(1e-9, ...load)
  const x = (t: number) => ((Math.min(t, end) / end) * WIDTH).toFixed(1)
  const y = (share: number) => (HEIGHT - share * (HEIGHT - 3)).toFixed(1)
  const ground = profile.t.map((t, i) => `L${x(t)},${y((load[i] ?? 0) / most)}`).join('')
  return {
    end,
    terrain: `M0,${HEIGHT}${ground}L${x(profile.t.at(-1) ?? 0)},${HEIGHT}Z`,
    throughput: path(plate.t, plate.throughput, x, y),
  }
}

function path(
  t: Column,
  values: Column,
  x: (t: number) => string,
  y: (share: number) => string,
): string {
  const most = Math.max(1e-9, ...values.map((v) => v ?? 0))
  let pen = 'M'
  let drawn = ''
  values.forEach((v, i) => {
    if (v === null) pen = 'M'
    else {
      drawn += `${pen}${x(t[i] ?? 0)},${y((0.9 * v) / most)}`
      pen = 'L'
    }
  })
  return drawn
}

/** A stretch moved by so many seconds, or made longer by them, within a run of `end` seconds. */
export function moved(at: Stretch, by: number, end: number): Stretch {
  const length = at.until - at.from
  const from = Math.round(Math.min(Math.max(0, at.from + by), Math.max(0, end - length)))
  return { from, until: from + length }
}
export function widened(at: Stretch, by: number, end: number, least: number): Stretch {
  const middle = (at.from + at.until) / 2
  const half = Math.min(end, Math.max(least, at.until - at.from + 2 * by)) / 2
  const from = Math.round(Math.max(0, Math.min(middle - half, end - 2 * half)))
  return { from, until: Math.min(Math.ceil(end), Math.round(from + 2 * half)) }
}
