/** Times and amounts as people type them, and as documents hold them. */

const SECONDS: Record<string, number> = { ms: 0.001, s: 1, min: 60, h: 3600 }
const ALSO: Record<string, string> = {
  sec: 's',
  second: 's',
  seconds: 's',
  m: 'min',
  minute: 'min',
  minutes: 'min',
  mins: 'min',
  hour: 'h',
  hours: 'h',
}

/** Seconds of a time as a document holds it; null where it is none. */
export function secondsOf(text: unknown): number | null {
  const match =
    typeof text === 'string' ? /^\s*(\d+(?:\.\d+)?)\s*(ms|s|min|h)\s*$/.exec(text) : null
  return match ? Number((Number(match[1]) * (SECONDS[match[2] ?? ''] ?? 0)).toFixed(6)) : null
}

/** The shortest text that says so many seconds exactly. */
export function durationOf(seconds: number): string {
  for (const [unit, size] of [
    ['h', 3600],
    ['min', 60],
    ['s', 1],
  ] as const) {
    const amount = seconds / size
    if (amount >= 1 && Math.abs(amount - Number(amount.toFixed(2))) < 1e-9)
      return `${Number(amount.toFixed(2))} ${unit}`
  }
  return seconds ? `${Number((seconds * 1000).toFixed(3))} ms` : '0 s'
}

/** What somebody typed as a time, with the unit it had `before` where none is given: "90s", "2 minutes", "1:30". */
export function typedDuration(text: string, before: unknown): string {
  const clock = /^\s*(\d+):([0-5]\d)(?::([0-5]\d))?\s*$/.exec(text)
  if (clock) {
    const [a, b, c] = [Number(clock[1]), Number(clock[2]), clock[3]]
    return durationOf(c === undefined ? a * 60 + b : a * 3600 + b * 60 + Number(c))
  }
  const match = /^\s*(\d+(?:[.,]\d+)?)\s*([a-z]*)\.?\s*$/i.exec(text)
  if (!match) return text
  const unit = (match[2] ?? '').toLowerCase()
  const known = SECONDS[unit] ? unit : (ALSO[unit] ?? '')
  const own = /[a-z]+\s*$/.exec(typeof before === 'string' ? before : '')?.[0] ?? 's'
  if (unit && !known) return text
  return `${Number((match[1] ?? '').replace(',', '.'))} ${known || own}`
}

/** What somebody typed as an amount: a number where it is one, a time where it has a unit of time. */
export function typedAmount(text: string): number | string {
  if (/^\s*\d+(?:[.,]\d+)?\s*[a-z]+\s*$/i.test(text)) return typedDuration(text, 's')
  const plain = text
    .trim()
    .replace(/[\s\u2009]/g, '')
    .replace(',', '.')
  return /^-?\d+(\.\d+)?$/.test(plain) ? Number(plain) : text.trim()
}

/** What somebody typed as a share: of a hundred where they do not say. */
export function typedShare(text: string): string {
  return /^\s*[\d.,]+\s*$/.test(text) ? `${text.trim().replace(',', '.')} %` : text
}

/** What somebody typed as a rate: per second where they do not say. */
export function typedRate(text: string): number | string {
  const match = /^\s*([\d.,]+)\s*(?:\/\s*s|per s(?:econd)?)?\s*$/.exec(text)
  return match ? Number((match[1] ?? '').replace(',', '.')) : text.trim()
}

/** The next share up or down. */
export function steppedShare(text: unknown, by: number): string {
  const now = /^\s*([\d.]+)\s*%/.exec(String(text))
  return now ? `${Math.max(1, Math.round(Number(now[1]) + by))} %` : String(text)
}

/** An amount as documents hold it: a number, or a rate such as "300 /min"; null where it is none. */
export function amountOf(value: unknown): number | null {
  if (typeof value === 'number' && Number.isFinite(value)) return value
  const match =
    typeof value === 'string' ? /^\s*(\d+(?:\.\d+)?)\s*(\/s|\/min|\/h)?\s*$/.exec(value) : null
  return match ? Number(match[1]) / ({ '/min': 60, '/h': 3600 }[match[2] ?? ''] ?? 1) : null
}

/** The next time up or down: in steps a person would take. */
export function steppedDuration(text: unknown, by: number): string {
  const now = secondsOf(text)
  if (now === null) return String(text)
  const step = now < 10 ? 1 : now < 60 ? 5 : now < 600 ? 30 : now < 3600 ? 60 : 300
  const down = by < 0 && now <= step ? now / 2 : step
  return durationOf(Number(Math.max(0.5, now + by * down).toFixed(3)))
}
