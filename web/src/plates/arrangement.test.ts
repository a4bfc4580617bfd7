import { describe, expect, it } from 'vitest'
import {
  arranged,
  AS_IT_IS,
  moved,
  ordered,
  overlaid,
  readArrangement,
  sized,
  toggled,
} from './arrangement'

const ROWS = ['load', 'throughput', 'response', 'resource:a', 'resource:b'].map((id) => ({
  id,
  height: id.startsWith('resource') ? 15 : 100,
}))
const ids = (rows: { id: string }[]) => rows.map((row) => row.id)

describe('the rows of a plate', () => {
  it('stand as they are until somebody moves one', () => {
    expect(ids(arranged(ROWS, AS_IT_IS))).toEqual(ids(ROWS))
    const up = moved(ROWS, AS_IT_IS, 'resource:a', -3)
    expect(ids(arranged(ROWS, up))[0]).toBe('resource:a')
    expect(moved(ROWS, up, 'resource:a', -1)).toBe(up)
    expect(moved(ROWS, up, 'nothing', 1)).toBe(up)
  })
  it('take in one that comes later behind its neighbour', () => {
    const how = { ...AS_IT_IS, order: ['response', 'load', 'throughput', 'resource:b'] }
    expect(ids(ordered(ROWS, how))).toEqual([
      'response', 'resource:a', 'load', 'throughput', 'resource:b',
    ]) // prettier-ignore
    expect(ids(ordered(ROWS.slice(1), how))).not.toContain('load')
  })
  it('can be hidden, all but one', () => {
    const none = ROWS.reduce((how, row) => toggled(how, row.id), AS_IT_IS)
    expect(ids(arranged(ROWS, none))).toEqual(['load'])
    expect(ids(arranged(ROWS, toggled(none, 'response')))).toEqual(['response'])
  })
  it('are as high as somebody wants, and never too low to be read', () => {
    const how = sized(sized(AS_IT_IS, 'load', 'large'), 'resource:a', 'small')
    const heights = Object.fromEntries(arranged(ROWS, how).map((row) => [row.id, row.height]))
    expect([heights.load, heights['resource:a'], heights.response]).toEqual([180, 14, 100])
  })
  it('carry another measure until it is taken off', () => {
    const how = overlaid(overlaid(AS_IT_IS, 'load', 'throughput'), 'response', 'load')
    expect(overlaid(how, 'load', 'resource:a').over).toEqual({
      response: 'load',
      load: 'resource:a',
    })
    expect(overlaid(how, 'load', '').over).toEqual({ response: 'load' })
  })
  it('are read back, whatever was kept', () => {
    const sizes = sized(toggled(moved(ROWS, AS_IT_IS, 'load', 1), 'response'), 'load', 'small')
    const how = overlaid(sizes, 'load', 'throughput')
    expect(readArrangement(JSON.stringify(how))).toEqual(how)
    for (const text of [null, '', 'null', '[]', '{"order": 3, "sizes": {"a": "huge"}}', '{'])
      expect(readArrangement(text)).toEqual(AS_IT_IS)
  })
})
