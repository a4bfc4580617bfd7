/** Numbers as they are shown: three significant figures, units always. */

const SPACE = '\u2009'

export function figure(value: number | null | undefined): string {
  if (value === null || value === undefined || !Number.isFinite(value)) return '–'
  if (value === 0) return '0'
  const rounded = Number(value.toPrecision(3))
  const digits = 2 - Math.floor(Math.log10(Math.abs(rounded)))
  if (digits > 0) return rounded.toFixed(Math.min(digits, 6))
  return String(rounded).replace(/\B(?=(\d{3})+(?!\d))/g, SPACE)
}

export function seconds(value: number | null | undefined): string {
  if (value === null || value === undefined || !Number.isFinite(value)) return '–'
  if (value === 0) return '0 s'
  if (value < 0.9995) return `${figure(value * 1000)} ms`
  if (value < 120) return `${figure(value)} s`
  const whole = Math.round(value)
  const rest = whole % 60
  return rest ? `${Math.floor(whole / 60)} min ${rest} s` : `${whole / 60} min`
}

/** A time that was given, not measured: without figures it does not have. */
export function given(value: number): string {
  if (value === 0) return '0 s'
  if (value < 1) return `${Number((value * 1000).toFixed(3))} ms`
  if (value < 120 || value % 60)
    return value < 120 ? `${Number(value.toFixed(3))} s` : seconds(value)
  return `${value / 60} min`
}

/** A moment of a run: 0:00, 4:05. */
export function clock(value: number): string {
  const whole = Math.round(value)
  return `${Math.floor(whole / 60)}:${String(whole % 60).padStart(2, '0')}`
}

/** A moment of a run to a tenth of a second: 4:05.3. */
export function moment(value: number): string {
  const tenths = Math.floor(value * 10 + 1e-6)
  return `${clock(Math.floor(tenths / 10))}.${tenths % 10}`
}

export function percent(ratio: number | null | undefined): string {
  if (ratio === null || ratio === undefined || !Number.isFinite(ratio)) return '–'
  const value = ratio * 100
  return `${value >= 10 || value === 0 ? Math.round(value) : figure(value)} %`
}

/** A part of a whole; what is hardly any of it is said to be so. */
export function shareOf(ratio: number): string {
  return ratio > 0 && ratio < 0.001 ? '< 0.1 %' : percent(ratio)
}

export function users(value: number | null | undefined): string {
  if (value === null || value === undefined) return '–'
  return String(Math.round(value)).replace(/\B(?=(\d{3})+(?!\d))/g, SPACE)
}

/** A load without its unit: whole from 20 on, as users are, three figures below. */
export function loadFigure(value: number | null | undefined): string {
  if (value === null || value === undefined) return '–'
  return value >= 20 || Number.isInteger(Number(value.toFixed(2))) ? users(value) : figure(value)
}

/** 360 users, 12.5 arrivals/s. */
export function load(
  value: number | null | undefined,
  axis: { kind: string; unit: string },
): string {
  return `${axis.kind === 'users' ? users(value) : loadFigure(value)} ${axis.unit}`
}

export function rate(value: number | null | undefined): string {
  return `${figure(value)} steps/s`
}

export function when(iso: string): string {
  return new Date(iso).toLocaleString(undefined, {
    day: 'numeric',
    month: 'short',
    year: 'numeric',
    hour: '2-digit',
    minute: '2-digit',
  })
}

/** By how much a ratio is off one: +18 %, −4.1 %. */
export function signed(ratio: number): string {
  const by = (ratio - 1) * 100
  const told = Math.abs(by) >= 10 ? Math.abs(by).toFixed(0) : Math.abs(by).toPrecision(2)
  return `${by >= 0 ? '+' : '−'}${told} %`
}

/** 14 Mar 2026. */
export function day(iso: string): string {
  return new Date(iso).toLocaleDateString('en-GB', {
    day: 'numeric',
    month: 'short',
    year: 'numeric',
  })
}

/** A value in its unit, three significant figures. */
export function amount(value: number | null | undefined, unit: string): string {
  if (value == null) return '–'
  const [base, ...rest] = unit.split(' ')
  if (base === 's') return [seconds(value), ...rest].join(' ')
  if (base === 'share') return percent(value)
  if (base === 'B' || base === 'B/s') return [bytes(value) + base.slice(1), ...rest].join(' ')
  if (base === 's/s') return `${figure(value)} busy`
  return `${figure(value)} ${unit}`.trim()
}

function bytes(value: number): string {
  const units = ['B', 'kB', 'MB', 'GB', 'TB']
  const step = Math.min(4, Math.max(0, Math.floor(Math.log10(Math.max(1, Math.abs(value))) / 3)))
  const told = step || !Number.isInteger(value) ? figure(value / 1000 ** step) : String(value)
  return `${told} ${units[step]}`
}

/** So many of something: 1 row, 12 rows. */
export function counted(count: number, noun: string): string {
  return `${users(count)} ${noun}${count === 1 ? '' : 's'}`
}
