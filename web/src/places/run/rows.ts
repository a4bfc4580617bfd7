/** The rows of a run's plate as they were arranged for its experiment, in this browser. */
import { computed, ref, toValue, watch, type MaybeRefOrGetter } from 'vue'
import { AS_IT_IS, readArrangement, type Arrangement } from '@/plates/arrangement'
import { carries } from '@/plates/overlaid'
import { rowsOf } from '@/plates/rows'
import { viewOf, type PlateInput } from '@/plates/view'

const keyOf = (experiment: number) => `rows of experiment ${experiment}`

export function useRows(
  experiment: MaybeRefOrGetter<number | undefined>,
  input: MaybeRefOrGetter<PlateInput | null>,
) {
  const kept = ref<Arrangement>(AS_IT_IS)
  watch(
    () => toValue(experiment),
    (id) => {
      if (id !== undefined) kept.value = readArrangement(localStorage.getItem(keyOf(id)))
    },
    { immediate: true },
  )
  const arrangement = computed({
    get: () => kept.value,
    set: (how: Arrangement) => {
      kept.value = how
      const id = toValue(experiment)
      if (id !== undefined) localStorage.setItem(keyOf(id), JSON.stringify(how))
    },
  })
  /** All there are, shown or hidden. */
  const rows = computed(() => {
    const given = toValue(input)
    if (!given) return []
    return rowsOf(viewOf(given)).map((row) => ({
      id: row.id,
      name: row.name,
      height: row.height,
      carries: carries(row),
      measured: row.measure !== undefined,
    }))
  })
  return { arrangement, rows }
}
