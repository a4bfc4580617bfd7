import { describe, expect, it } from 'vitest'
import { Pace } from './pace'

/** Looks at what is written at so many ms after each full second: how long it waited to be seen, and the looks. */
function looks(at: (second: number) => number, until: number, took = 40) {
  const pace = new Pace(1000)
  const waits: number[] = []
  let [now, seen, count] = [0, 0, 0]
  while (now < until) {
    count++
    const there = Array.from({ length: 200 }, (_, s) => s * 1000 + at(s)).filter((t) => t <= now)
    for (const written of there.slice(seen)) waits.push(now + took - written)
    const news = there.length > seen
    seen = there.length
    now += took + pace.after(news, took)
  }
  return { waits, count }
}

describe('the pace of looking', () => {
  it('sees what is written each second soon after, with few looks more', () => {
    const { waits, count } = looks(() => 730, 100_000)
    const steady = waits.slice(6)
    expect(Math.max(...steady)).toBeLessThan(200)
    expect(steady.reduce((a, b) => a + b) / steady.length).toBeLessThan(120)
    expect(count).toBeLessThan(100 * 1.3)
  })

  it('follows a writer who is late now and then', () => {
    const { waits, count } = looks((second) => (second % 7 ? 300 : 700), 100_000)
    expect([...waits].sort((a, b) => a - b)[Math.floor(waits.length / 2)]).toBeLessThan(400)
    expect(count).toBeLessThan(100 * 1.7)
  })

  it('waits for one who is very late less than twice as long as he is', () => {
    const { waits } = looks((second) => (second % 9 === 8 ? 1_650 : 700), 100_000)
    expect(Math.max(...waits.slice(6))).toBeLessThan(500)
  })

  it('does not hurry where nothing is written', () => {
    expect(looks(() => 1e9, 100_000).count).toBeLessThan(112)
  })
})
