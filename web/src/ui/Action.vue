<script setup lang="ts">
import { computed } from 'vue'
import type { Role } from '@/api/access'
import { useRole } from './role'

const props = withDefaults(
  defineProps<{
    kind?: 'primary' | 'plain' | 'danger'
    busy?: boolean
    disabled?: boolean
    /** The least role that may. */
    needs?: Role
  }>(),
  { kind: 'plain', needs: 'reader' },
)
const { may } = useRole()
const lacks = computed(() => !may(props.needs))
const looks = {
  primary: 'bg-copper text-on-copper border-copper hover:opacity-90',
  plain: 'bg-card text-ink border-rule hover:border-ink-2',
  danger: 'bg-card text-brick border-brick hover:bg-paper',
}
</script>

<template>
  <button
    type="button"
    class="inline-flex items-center gap-2 rounded border px-3 py-1.5 whitespace-nowrap disabled:opacity-50"
    :class="looks[kind]"
    :disabled="busy || disabled || lacks"
    :title="
      lacks ? `This needs the role of ${needs}; an administrator can give it you.` : undefined
    "
    :aria-busy="busy"
  >
    <slot />
  </button>
</template>
