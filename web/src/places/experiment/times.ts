/** Moments to come, as people say them. */

const [MINUTE, HOUR, DAY] = [60, 3600, 86_400]

/** How long until then: "in 2 h 14 min", "in 3 days 4 h"; "now" where it is due. */
export function inWords(moment: Date, now: Date): string {
  const seconds = Math.round((moment.getTime() - now.getTime()) / 1000)
  if (seconds <= 0) return 'now'
  if (seconds < 2 * MINUTE) return `in ${seconds} s`
  const minutes = Math.round(seconds / MINUTE) * MINUTE
  const parts: [number, string][] =
    minutes >= DAY
      ? [
          [Math.floor(minutes / DAY), minutes >= 2 * DAY ? 'days' : 'day'],
          [Math.floor((minutes % DAY) / HOUR), 'h'],
        ]
      : [
          [Math.floor(minutes / HOUR), 'h'],
          [(minutes % HOUR) / MINUTE, 'min'],
        ]
  return `in ${parts
    .filter(([count]) => count)
    .map(([count, unit]) => `${count} ${unit}`)
    .join(' ')}`
}

/** The day and the time of it by the clock of a place: "Thursday, December 3, 06:30". */
export function dayAndTime(moment: Date, zone: string): string {
  return moment.toLocaleString(undefined, {
    weekday: 'long',
    month: 'long',
    day: 'numeric',
    hour: '2-digit',
    minute: '2-digit',
    timeZone: zone,
  })
}

/** Whether two places have the same time at a moment. */
export function sameClock(moment: Date, a: string, b: string): boolean {
  const told = (zone: string) => moment.toLocaleString('en-GB', { timeZone: zone })
  return told(a) === told(b)
}

/** What a date and a time field say at a moment: "2026-12-03" and "06:30". */
export function fieldsAt(moment: Date): { day: string; time: string } {
  const two = (n: number) => String(n).padStart(2, '0')
  return {
    day: `${moment.getFullYear()}-${two(moment.getMonth() + 1)}-${two(moment.getDate())}`,
    time: `${two(moment.getHours())}:${two(moment.getMinutes())}`,
  }
}
