/** One step of a run against load. */
import { useQuery } from '@tanstack/vue-query'
import { computed, toValue, type MaybeRefOrGetter } from 'vue'
import { counted, given, percent, seconds } from '@/ui/format'
import { api, body, type Schemas } from './client'

export type StepPage = Schemas['StepPage']
export type StepAtLevel = Schemas['StepAtLevel']

export function useStep(id: MaybeRefOrGetter<number>, step: MaybeRefOrGetter<string>) {
  return useQuery({
    queryKey: computed(() => ['run', toValue(id), 'step', toValue(step)]),
    queryFn: () =>
      body(
        api.GET('/api/runs/{run_id}/steps/{step}', {
          params: { path: { run_id: toValue(id), step: toValue(step) } },
        }),
      ),
  })
}

/** A part of a step's time as it is drawn and named. */
export interface Part {
  phase: string
  name: string
  seconds: number
}
const NAMES: Record<string, string> = {
  lookup: 'looking up the name',
  connect: 'connecting',
  tls: 'the TLS handshake',
  sending: 'sending',
  waiting: 'waiting for the first byte',
  receiving: 'receiving',
  files: 'further requests of the step',
}

/** What a level's mean was made of, without what took no time. */
export function partsOf(level: StepAtLevel): Part[] {
  return level.phases
    .filter((one) => one.mean_s > 0)
    .map((one) => ({ phase: one.phase, name: NAMES[one.phase] ?? one.phase, seconds: one.mean_s }))
}

export const wholeOf = (level: StepAtLevel) =>
  partsOf(level).reduce((sum, part) => sum + part.seconds, 0)

/** Of how many requests servers told at a level. */
export const tracedOf = (level: StepAtLevel) => level.components[0]?.traced ?? 0

/** In which component most of the main request's time was spent at the highest level that traces tell of. */
function throughOf(page: StepPage): string[] {
  const told = page.levels.filter((level) => tracedOf(level) > 0)
  const [low, high] = [told[0], told.at(-1)]
  const most = high?.components.toSorted((a, b) => b.mean_s - a.mean_s)[0]
  if (!low || !high || !most) return []
  const whole = high.components.reduce((sum, one) => sum + one.mean_s, 0)
  const where = most.name ? `in ${most.name} itself` : 'outside of all that told of itself'
  const between =
    most.low_s === null || most.high_s === null
      ? ''
      : ` (${percent(most.low_s / whole)} to ${percent(Math.min(1, most.high_s / whole))})`
  const before = low.components.find((one) => one.name === most.name)?.mean_s ?? 0
  const grown =
    low === high
      ? ''
      : `, ${seconds(most.mean_s)} where it was ${seconds(before)} at ${low.level.toLowerCase()}`
  return [
    `By ${counted(tracedOf(high), 'trace')} at ${high.level.toLowerCase()}, ${percent(most.mean_s / whole)}${between} of its main request is spent ${where}${grown}.`,
  ]
}

/** What is to be said of the step, the most telling sentence first. */
export function sentencesOf(page: StepPage): string[] {
  const goals = page.goals.map((goal) => {
    const what = `${goal.percent} % within ${given(goal.limit_s)}`
    const from = goal.fails_from === null ? undefined : page.levels[goal.fails_from]
    const known = page.levels.filter((level) => level.goals.some((at) => at.holds !== null)).length
    if (!known) return `Whether ${what} was kept is not known at any level.`
    const missed = goal.missed.map((place) =>
      page.levels[place]?.level.split(',')[0]?.toLowerCase(),
    )
    const also = missed.length
      ? ` It was missed at ${missed.join(' and ')} too, and kept again above.`
      : ''
    if (!from) return `${what} was kept at the highest level it is known at.${also}`
    if (goal.fails_from === page.levels.length - 1 && page.levels.length > 1)
      return `${what} was missed at the highest level, ${from.level.toLowerCase()}: whether for good, a higher one would tell.${also}`
    if (goal.fails_from === 0) return `${what} was missed at every level.`
    return `From ${from.level.toLowerCase()} on, ${what} was missed for good: at every load that was tried.${also}`
  })
  const told = page.levels.filter((level) => wholeOf(level) > 0)
  const [low, high] = [told[0], told.at(-1)]
  const most = high && partsOf(high).toSorted((a, b) => b.seconds - a.seconds)[0]
  if (!low || !high || !most) return goals
  const share = most.seconds / wholeOf(high)
  const before = partsOf(low).find((part) => part.phase === most.phase)?.seconds ?? 0
  const time = `At ${high.level.toLowerCase()}, ${percent(share)} of its mean of ${seconds(wholeOf(high))} is ${most.name}`
  const grown =
    low === high
      ? ''
      : `, ${seconds(most.seconds)} where it was ${seconds(before)} at ${low.level.toLowerCase()}`
  const server = high.servers.toSorted((a, b) => b.mean_s - a.mean_s)[0]
  const says = server
    ? ` Of the servers that tell, ${server.name} took most: ${seconds(server.mean_s)}.`
    : ''
  return [...goals, `${time}${grown}.${says}`, ...throughOf(page)]
}

/** What of the run is missing for the rest of the page. */
export function lacking(page: StepPage): string {
  if (!page.levels.length) return 'No level was held long enough to tell of.'
  return page.levels.some((level) => level.phases.length)
    ? ''
    : `There are no single requests of this run, so what its time was made of is not known; ${counted(page.levels.length, 'level')} are told by the findings.`
}
