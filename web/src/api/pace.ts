/** When to look next at something that is written once a second: soon after it is written, without knowing when that is.
 *
 * Each look comes a little earlier than the writing's own pace asks for, and the more so the longer all have found
 * something, until one comes before there is anything new, which costs next to nothing; that one is made again a little
 * later, and then less and less soon. So what is new waits to be seen for a fraction of the pace, not half of it.
 */
const EARLIER_MS = 8
const MORE_EACH_MS = 2
const MOST_EARLIER_MS = 150
const AGAIN_MS = 80
const LESS_SOON = 1.5
const LEAST_MS = 100
/** Nothing is known of when it is written: as if many had found something. */
const UNKNOWN = 80

export class Pace {
  private inVain = 0
  /** So many looks in a row found something. */
  private found = UNKNOWN

  constructor(readonly every: number) {}

  /** How long to wait (ms) after a look that took so long and found something new, or not. */
  after(news: boolean, took: number): number {
    if (!news) {
      this.inVain += 1
      this.found = 0
      return Math.min(this.every, AGAIN_MS * LESS_SOON ** (this.inVain - 1))
    }
    // What was waited for longer was late itself: the next may come at its time again.
    this.found = this.inVain > 1 ? UNKNOWN : this.found + 1
    this.inVain = 0
    const earlier = Math.min(MOST_EARLIER_MS, EARLIER_MS + MORE_EACH_MS * this.found)
    return Math.max(LEAST_MS, this.every - earlier - took)
  }
}
