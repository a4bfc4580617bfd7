import { computed, inject, provide, type ComputedRef, type InjectionKey } from 'vue'
import type { Role } from '@/api/access'
import { useMe } from '@/api/queries'

/** What whoever is signed in may. The server decides; this only tells beforehand. */
export interface RoleHeld {
  may: (needs: Role) => boolean
  reads: ComputedRef<boolean>
}

const RANKS: Role[] = ['reader', 'planner', 'administrator']
const key: InjectionKey<RoleHeld> = Symbol('role')
/** Where nobody told who is signed in. */
const everything: RoleHeld = { may: () => true, reads: computed(() => false) }

/** Tells all components below what whoever is signed in may. */
export function provideRole(): void {
  const me = useMe()
  const rank = computed(() => RANKS.indexOf(me.data.value?.role ?? 'reader'))
  provide(key, {
    may: (needs) => rank.value >= RANKS.indexOf(needs),
    reads: computed(() => me.isSuccess.value && rank.value === 0),
  })
}

export function useRole(): RoleHeld {
  return inject(key, everything)
}
