/** Choosing a stretch of the clock by dragging across the plate. */
import { computed, ref } from 'vue'
import { LEFT, RIGHT } from './layout'

export interface Stretch {
  from: number
  until: number
}

const CLICK_PX = 6
export const SHORTEST_S = 5

/** The whole seconds between two places on a plate of this width, whose axis goes from `min` to `max`; null where it
 * was no more than a click. */
export function stretchBetween(
  a: number,
  b: number,
  width: number,
  axis: { min: number; max: number },
): Stretch | null {
  if (Math.abs(a - b) < CLICK_PX) return null
  const second = (x: number) => {
    const share = (x - LEFT) / Math.max(1, width - LEFT - RIGHT)
    return axis.min + Math.min(1, Math.max(0, share)) * (axis.max - axis.min)
  }
  const from = Math.floor(second(Math.min(a, b)))
  return { from, until: Math.max(from + SHORTEST_S, Math.ceil(second(Math.max(a, b)))) }
}

/** Follows a pointer from pressing to letting go; `done` hears between which two places, on a plate of which width. */
export function useDragging(done: (a: number, b: number, width: number) => void) {
  const from = ref<number | null>(null)
  const to = ref(0)

  const place = (event: PointerEvent) => {
    const box = (event.currentTarget as HTMLElement).getBoundingClientRect()
    return { x: event.clientX - box.left, width: box.width }
  }
  function begin(event: PointerEvent) {
    const { x, width } = place(event)
    if (event.button !== 0 || x < LEFT || x > width - RIGHT) return
    ;(event.currentTarget as HTMLElement).setPointerCapture(event.pointerId)
    from.value = to.value = x
  }
  function go(event: PointerEvent) {
    if (from.value === null) return
    const { x, width } = place(event)
    to.value = Math.min(width - RIGHT, Math.max(LEFT, x))
  }
  function end(event: PointerEvent) {
    if (from.value === null) return
    done(from.value, to.value, place(event).width)
    from.value = null
  }
  /** What is marked so far. */
  const marked = computed(() =>
    from.value === null
      ? null
      : { left: Math.min(from.value, to.value), width: Math.abs(to.value - from.value) },
  )
  return { begin, go, end, cancel: () => (from.value = null), marked }
}
