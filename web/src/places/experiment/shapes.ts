/** Loads to begin from, one for each usual question. */
import type { Sentence } from './load'

export interface Shape {
  name: string
  says: string
  load: Sentence[]
  /** Further fields of the plan. */
  more?: Record<string, unknown>
  /** Levels as they may come, where the load does not say them. */
  course?: number[]
}

export const SHAPES: Shape[] = [
  {
    name: 'Find the limit',
    says: 'climb in levels until it no longer keeps up, then one low level',
    load: [
      { climb: { from: 20, to: 200, by: 20, every: '30 s' } },
      { hold: { users: 50, for: '30 s' } },
    ],
  },
  {
    name: 'Search for the limit',
    says: 'each level chosen by what the run has shown; begins with 95 % of steps within 1 s as its objective',
    load: [{ search: { from: 5, to: 400, within: '10 min' } }],
    more: { objectives: [{ p95: '1 s' }, { errors: '1 %' }] },
    course: [5, 15, 75, 108, 92, 101],
  },
  {
    name: 'Hold steady',
    says: 'one load, long enough to be sure',
    load: [{ hold: { users: 50, for: '5 min' } }],
  },
  {
    name: 'Rush hour',
    says: 'rise, stay, fall',
    load: [
      { ramp: { from: 10, to: 120, over: '5 min' } },
      { hold: { for: '10 min' } },
      { ramp: { to: 10, over: '5 min' } },
    ],
  },
  {
    name: 'Sudden crowd',
    says: 'many more at once, and away again',
    load: [
      { hold: { users: 20, for: '2 min' } },
      { jump: { by: 100, for: '3 min' } },
      { drop: { by: 5, every: '3 s', to: 20 } },
      { hold: { for: '2 min' } },
    ],
  },
  {
    name: 'Long soak',
    says: 'hours at a load it should bear',
    load: [{ ramp: { from: 1, to: 60, over: '2 min' } }, { hold: { for: '4 h' } }],
  },
  {
    name: 'Morning rush',
    says: 'people come one by one, and each stays a while',
    load: [{ gather: { users: 400, within: '40 min', stay: '15 min' } }],
  },
  {
    name: 'Baseline',
    says: 'a few users who never wait, to compare with another day',
    load: [{ hold: { users: 10, for: '5 min' } }],
    more: { tags: ['baseline'], waits: { factor: 0 } },
  },
]
