/** Text that somebody types into a field of a document: taken over while one types, at each pause. */
import { useDebounceFn } from '@vueuse/core'
import { onBeforeUnmount, ref, watch } from 'vue'
import { useTyping } from './draft'

const PAUSE_MS = 600

/**
 * `shown` tells the text of the value as it is, `take` takes over what was typed. Elsewhere than in a document it is
 * taken over when one leaves the field.
 */
export function useTyped(shown: () => string, take: (text: string) => void) {
  const typing = useTyping()
  // While somebody is in the field its text is theirs: what the document makes of it is shown after.
  const text = ref(shown())
  const inside = ref(false)
  let stay = {}
  let pending: string | null = null

  watch(shown, () => {
    if (!inside.value) text.value = shown()
  })
  function takeOver(typed: string) {
    pending = null
    take(typed)
    typing?.settled(stay)
  }
  const flush = () => pending !== null && takeOver(pending)
  const afterPause = useDebounceFn(flush, PAUSE_MS)
  onBeforeUnmount(flush)

  return {
    text,
    flush,
    /** Another value than what was typed, as by an arrow key: what is shown follows it. */
    follow: () => (text.value = shown()),
    entered() {
      inside.value = true
      stay = {}
    },
    left() {
      inside.value = false
      text.value = shown()
      typing?.left()
    },
    typed(now: string) {
      text.value = now
      if (!typing) return
      pending = now
      typing.begun(stay, flush)
      void afterPause()
    },
    changed(now: string) {
      // Taken over already at the last pause: leaving the field changes nothing.
      if (!typing || pending !== null) takeOver(now)
    },
  }
}
