import { describe, expect, it } from 'vitest'
import { worthDrawing } from './redraw'
import type { PlateInput } from './view'

const profile = (duration_s: number) => ({ duration_s }) as PlateInput['profile']
const LONG = profile(3600)
const SHORT = profile(300)

function input(seconds: number, more: Partial<PlateInput> = {}): PlateInput {
  const plate = {
    first: 0, bin_s: 1, of: 'all', start: Array.from({ length: seconds }, (_, i) => i), parts: [], pins: [],
    resources: [], served: [], error_kinds: [],
  } as unknown as PlateInput['plate'] // prettier-ignore
  return {
    axis: 'clock',
    plate,
    profile: LONG,
    window: null,
    flags: [],
    goals: [],
    ...more,
  } as PlateInput
}

describe('a plate is drawn anew', () => {
  it('with each second where a second can be seen', () => {
    const was = input(100, { profile: SHORT })
    expect(worthDrawing(input(101, { profile: SHORT }), was)).toBe(true)
    expect(worthDrawing(input(100, { profile: SHORT }), was)).toBe(false)
  })
  it('within two seconds where it is narrower than a pixel', () => {
    expect(worthDrawing(input(1001), input(1000))).toBe(false)
    expect(worthDrawing(input(1002), input(1000))).toBe(true)
  })
  it('at once where anything else is seen anew', () => {
    const was = input(1000)
    const plate = { ...was.plate, of: 'step:1' }
    for (const change of [
      { axis: 'load' as const },
      { plate },
      { flags: [{ t: 3, text: 'deployed' }] },
      { window: { from: 0, until: 60 } },
      { comfort: { value: 3, low: 2, high: 4 } },
      { profile: profile(3700) },
    ])
      expect(worthDrawing(input(1001, change), was)).toBe(true)
    expect(worthDrawing(was, input(1001, { window: { from: 0, until: 60 } }))).toBe(true)
    expect(worthDrawing(was, was)).toBe(false)
  })
})
