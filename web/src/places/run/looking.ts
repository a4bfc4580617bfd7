/** What of a run is looked at: along which axis, which stretch of it, and whether the picture follows the run. */
import { computed, ref, watch, type Ref } from 'vue'
import type { Shown } from '@/api/livePlate'
import { usePlate } from '@/api/queries'
import type { Stretch } from '@/plates/dragging'
import type { Axis } from '@/plates/view'

const WHOLE = { from_s: 0, until_s: 0, last_s: 0 }
const OVERVIEW_MS = 5_000
const AROUND_S = 30

export function useLooking(id: () => number, live: Ref<boolean>) {
  const axis = ref<Axis>('clock')
  const shown = ref<Shown>({ of: '', split: '', ...WHOLE })
  /** Against load everything is shown. */
  const asked = computed<Shown>(() =>
    axis.value === 'load' ? { ...shown.value, ...WHOLE } : shown.value,
  )
  /** The picture stands while people look; what is measured meanwhile is there once they follow again. */
  const frozen = ref(false)
  const following = computed(() => live.value && !frozen.value)
  const plate = usePlate(id, following, asked)
  const partly = computed(() => asked.value.until_s > 0 || asked.value.last_s > 0)
  const everything = { of: 'all', split: '', ...WHOLE } as const
  const whole = usePlate(id, live, everything, { every: OVERVIEW_MS, when: partly })
  watch(following, (is) => is && void plate.refetch())
  watch(live, (is) => {
    if (is) return
    frozen.value = false
    void plate.refetch() // the last seconds arrive after the last live look
  })
  /** The stretch of the clock that is looked at, if not all of it. */
  const stretch = computed<Stretch | null>(() => {
    const { from_s, until_s } = asked.value
    if (until_s) return { from: from_s, until: until_s }
    const seen = plate.data.value
    if (!asked.value.last_s || !seen) return null
    return { from: seen.first, until: Math.max(seen.elapsed_s, seen.first + 1) }
  })
  function look(at: Stretch | null) {
    const piece = at ? { from_s: at.from, until_s: at.until } : {}
    shown.value = { ...shown.value, ...WHOLE, ...piece }
    if (at) axis.value = 'clock'
  }
  /** The minute around a moment. */
  function lookAround(at: number) {
    look({
      from: Math.max(0, Math.floor(at) - AROUND_S),
      until: Math.floor(at) + AROUND_S,
    })
  }
  return { axis, shown, asked, frozen, following, plate, whole, stretch, look, lookAround }
}
