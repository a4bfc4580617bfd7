/** What can be asked of a run's load, in which state of it, and by which key. */
import type { Schemas } from '@/api/client'
import type { Wish } from '@/api/steering'

export type Asked = 'load' | 'hold' | 'resume' | 'pause' | 'skip' | 'extend' | 'let go' | 'cut off'

export interface Deed {
  asked: Asked
  name: string
  key: string
  /** It ends the run. */
  ends: boolean
}

type Run = Pick<Schemas['RunDetail'], 'mode' | 'state' | 'outline'>

/** What can be asked now, in the order of the buttons. */
export function deeds({ mode, state, outline }: Run): Deed[] {
  const cut: Deed = { asked: 'cut off', name: 'Cut off', key: '', ends: true }
  if (state === 'draining') return [cut]
  if (state !== 'running' || !mode) return []
  const planned = !outline.profile.at_most
  const found: Omit<Deed, 'ends'>[] = []
  if (mode !== 'paused') found.push({ asked: 'load', name: 'Change the load', key: 'S' })
  if (mode === 'profile') found.push({ asked: 'hold', name: 'Hold here', key: 'H' })
  if (mode === 'held')
    found.push({ asked: 'resume', name: planned ? 'Follow the profile' : 'Go on', key: 'H' })
  if (mode === 'paused') found.push({ asked: 'resume', name: 'Go on', key: 'P' })
  else found.push({ asked: 'pause', name: 'Pause', key: 'P' })
  if (mode !== 'paused' && planned) found.push({ asked: 'skip', name: 'Next level now', key: 'N' })
  if (mode === 'profile' && planned)
    found.push({ asked: 'extend', name: 'Make it longer', key: 'E' })
  const finish: Deed = { asked: 'let go', name: 'Let everybody finish', key: '', ends: true }
  return [...found.map((one) => ({ ...one, ends: false })), finish, cut]
}

/** Whom a change of load is about, as a choice tells it. */
export function whom(choice: string): Pick<Wish, 'group' | 'region'> {
  const [kind, ...rest] = choice.split(':')
  const name = rest.join(':')
  return kind === 'group' ? { group: name } : kind === 'region' ? { region: name } : {}
}

export function choices(people: Schemas['People'][]): { value: string; text: string }[] {
  const regions = [...new Set(people.map((one) => one.region))].filter(Boolean)
  return [
    { value: '', text: 'everybody' },
    ...(people.length > 1
      ? people.map((one) => ({ value: `group:${one.name}`, text: `group ${one.name}` }))
      : []),
    ...(regions.length > 1
      ? regions.map((name) => ({ value: `region:${name}`, text: `region ${name}` }))
      : []),
  ]
}

/** Those of the people that a choice is about. */
export function meant(people: Schemas['People'][], choice: string): Schemas['People'][] {
  const { group, region } = whom(choice)
  return people.filter(
    (one) => (!group || one.name === group) && (!region || one.region === region),
  )
}
