/** How a sentence of load reads: words with values in between. */
import { fieldsOf, verbOf, type Sentence, type Unit, type Verb } from './load'

export interface Slot {
  /** The field of the sentence; of `wait` there is only one, without a name. */
  field: string
  kind: 'amount' | 'time' | 'share'
  label: string
}
/** Words that say it another way when pressed. */
export interface Turn {
  text: string
  says: string
  to: Sentence
}
export type Piece = string | Slot | Turn

export const isSlot = (piece: Piece): piece is Slot => typeof piece !== 'string' && 'field' in piece
export const isTurn = (piece: Piece): piece is Turn => typeof piece !== 'string' && 'to' in piece

const amount = (field: string, label: string): Slot => ({ field, kind: 'amount', label })
const share = (field: string, label: string): Slot => ({ field, kind: 'share', label })
const time = (field: string, label: string): Slot => ({ field, kind: 'time', label })

/** What a list of verbs says to each. */
export const VERB_WORDS: Record<Verb, { name: string; says: string }> = {
  hold: { name: 'Hold', says: 'stay at a load for a time' },
  climb: { name: 'Climb', says: 'add some, again and again' },
  drop: { name: 'Drop', says: 'let some leave, again and again' },
  jump: { name: 'Jump', says: 'many more, or fewer, at once' },
  ramp: { name: 'Ramp', says: 'a straight line to another load' },
  wait: { name: 'Wait', says: 'nobody is there for a time' },
  gather: { name: 'Gather', says: 'people come one by one, and stay a while' },
  search: { name: 'Search', says: 'look for the limit, instead of all this' },
}

/** The words of a sentence that begins where the load stands at `level`. */
export function wordsOf(sentence: Sentence, level: number, unit: Unit, first: boolean): Piece[] {
  const told = fieldsOf(sentence)
  const noun = unit === 'users' ? 'users' : 'arrivals per s'
  const now = Number(level.toPrecision(6))
  const without = (verb: Verb, field: string, more: Record<string, unknown> = {}) => {
    const rest = Object.fromEntries(Object.entries(told).filter(([key]) => key !== field))
    return { [verb]: { ...rest, ...more } }
  }
  switch (verbOf(sentence)) {
    case 'hold':
      if (told[unit] === undefined)
        return [
          { text: 'Hold', says: 'say how many', to: without('hold', unit, { [unit]: now }) },
          'for',
          time('for', 'how long'),
        ]
      return [
        first ? 'Begin with' : 'Hold',
        amount(unit, noun),
        `${noun} for`,
        time('for', 'how long'),
      ]
    case 'climb': {
      const end: Piece[] =
        told.for === undefined
          ? [
              {
                text: 'until',
                says: 'say for how long instead',
                to: without('climb', 'to', { for: '8 min', every: '1 min' }),
              },
              amount('to', 'until'),
            ]
          : [
              {
                text: 'for',
                says: 'say until how many instead',
                to: without('climb', 'for', { to: now + 10 * (Number(told.by) || 1) }),
              },
              time('for', 'for how long'),
            ]
      if (told.from === undefined)
        return [
          'Every',
          time('every', 'how often'),
          { text: 'add', says: 'say from how many', to: without('climb', 'from', { from: now }) },
          amount('by', 'how many more'),
          ...end,
        ]
      return [
        'Climb',
        { text: 'from', says: 'go on from where it is', to: without('climb', 'from') },
        amount('from', 'from'),
        'by',
        amount('by', 'how many more'),
        'every',
        time('every', 'how often'),
        ...end,
      ]
    }
    case 'drop':
      return [
        'Every',
        time('every', 'how often'),
        'let',
        amount('by', 'how many fewer'),
        ...(told.to === undefined
          ? [
              'leave until',
              {
                text: 'nobody is left',
                says: 'say until how many',
                to: without('drop', 'to', { to: 1 }),
              },
            ]
          : ['leave until', amount('to', 'until'), 'are left']),
      ]
    case 'jump':
      return told.to === undefined
        ? [
            {
              text: Number(told.by) < 0 ? 'Change by' : 'Add',
              says: 'say to how many instead',
              to: without('jump', 'by', { to: Math.max(0, now + (Number(told.by) || 0)) }),
            },
            amount('by', 'how many more'),
            'at once, for',
            time('for', 'how long'),
          ]
        : [
            {
              text: 'Jump to',
              says: 'say how many more instead',
              to: without('jump', 'to', { by: Number(told.to) - now || 1 }),
            },
            amount('to', noun),
            'for',
            time('for', 'how long'),
          ]
    case 'ramp':
      return [
        ...(told.from === undefined
          ? [
              {
                text: 'Ramp',
                says: 'say from how many',
                to: without('ramp', 'from', { from: now }),
              },
            ]
          : [
              'Ramp',
              { text: 'from', says: 'go on from where it is', to: without('ramp', 'from') },
              amount('from', 'from'),
            ]),
        'to',
        amount('to', noun),
        'over',
        time('over', 'how long'),
      ]
    case 'wait':
      return ['Wait', time('', 'how long'), 'with nobody there']
    case 'gather':
      return [
        amount('users', 'people'),
        'people come within',
        time('within', 'within how long'),
        ', each stays',
        time('stay', 'how long each stays'),
      ]
    case 'search':
      return [
        'Search between',
        ...(told.from === undefined ? ['1'] : [amount('from', 'fewest users')]),
        'and',
        amount('to', 'most users'),
        'users for the most that meet every objective, within',
        time('within', 'at most how long'),
        ...(told.precision === undefined
          ? [
              {
                text: 'and to ±7 %',
                says: 'say how precisely',
                to: without('search', 'precision', { precision: '5 %' }),
              },
            ]
          : ['and to ±', share('precision', 'how precisely')]),
      ]
    default:
      return ['This sentence has no verb known here: see the text.']
  }
}
