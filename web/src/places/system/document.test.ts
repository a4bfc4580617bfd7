import { describe, expect, it } from 'vitest'
import type { ShelfMetric } from '@/api/systems'
import { amount } from '@/ui/format'
import { together } from '@/ui/meterState'
import { pruned } from '@/ui/draft'
import { figureText, found, pinText } from './figures'
import { labelsFrom, labelsText } from './labels'

const metric = {
  component: 'ledger', metric: 'quillport_queries', name: 'queries', kind: 'counter', help: 'Database queries',
  figures: ['per step', 'value'],
} as unknown as ShelfMetric // prettier-ignore

describe('a system document', () => {
  it('is saved without what was left empty', () => {
    const given = { name: 'x', role: '', labels: {}, meters: [], type: { a: undefined }, n: 0 }
    expect(pruned(given)).toEqual({ name: 'x', n: 0 })
  })

  it('writes labels as people do', () => {
    expect(labelsFrom('app=ledger, zone = a, nonsense')).toEqual({ app: 'ledger', zone: 'a' })
    expect(labelsText({ app: 'ledger', zone: 'a' })).toBe('app=ledger, zone=a')
    expect(labelsFrom('')).toBeUndefined()
  })

  it('has one word for all sources of a component', () => {
    const of = (...states: string[]) => together(states.map((state) => ({ state })) as never)
    expect(of()).toBe('none')
    expect(of('reports', 'waiting')).toBe('reports')
    expect(of('reports', 'silent')).toBe('partly')
    expect(of('silent')).toBe('silent')
    expect(of('waiting')).toBe('waiting')
  })
})

describe('the metric shelf', () => {
  it('finds a metric by component, name, meaning or figure', () => {
    expect(found(metric, 'ledger queries')).toBe(true)
    expect(found(metric, 'database per step')).toBe(true)
    expect(found(metric, 'ledger cache')).toBe(false)
  })

  it('speaks in words', () => {
    expect(figureText('value', metric)).toBe('per second')
    expect(pinText({ component: 'ledger', metric: 'quillport_queries', figure: 'per step', other_component: '', other_metric: '' }, [metric])).toBe('ledger queries, per step') // prettier-ignore
  })

  it('gives amounts in their unit', () => {
    expect(amount(0.0042, 's')).toBe('4.20 ms')
    expect(amount(0.021, 's per step')).toBe('21.0 ms per step')
    expect(amount(1_536_000, 'B/s')).toBe('1.54 MB/s')
    expect(amount(0.25, 'share')).toBe('25 %')
    expect(amount(null, 's')).toBe('–')
  })
})
