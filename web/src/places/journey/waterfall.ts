/** The phases of a request as pieces of a bar. */
import type { Exchange } from '@/api/journeys'

export interface Piece {
  phase: 'name lookup' | 'connect' | 'TLS' | 'waiting' | 'receiving'
  left: number
  width: number
}

/** Pieces in percent of the whole trial, which took `whole` seconds. */
export function barOf(exchange: Pick<Exchange, 'began_s' | 'phases'>, whole: number): Piece[] {
  const { dns, connect, tls, sent, first_byte, total } = exchange.phases
  const ready = Math.max(sent, tls, connect, dns)
  const ends: [Piece['phase'], number, number][] = [
    ['name lookup', 0, dns],
    ['connect', dns, Math.max(connect, dns)],
    ['TLS', connect, tls],
    ['waiting', ready, Math.max(first_byte, ready)],
    ['receiving', Math.max(first_byte, ready), total],
  ]
  const percent = (seconds: number) => Math.round((seconds / (whole || 1)) * 1000) / 10
  return ends
    .filter(([, from, to]) => to > from)
    .map(([phase, from, to]) => ({
      phase,
      left: percent(exchange.began_s + from),
      width: percent(to - from),
    }))
}
