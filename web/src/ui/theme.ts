import { usePreferredDark, useLocalStorage } from '@vueuse/core'
import { computed, watchEffect } from 'vue'

type Choice = 'system' | 'light' | 'dark'

const choice = useLocalStorage<Choice>('kettle-theme', 'system')
const prefersDark = usePreferredDark()

export const dark = computed(() =>
  choice.value === 'system' ? prefersDark.value : choice.value === 'dark',
)

watchEffect(() => {
  document.documentElement.dataset.theme = dark.value ? 'dark' : 'light'
})

export function switchTheme() {
  choice.value = dark.value ? 'light' : 'dark'
}

/** The tokens as colours, for drawings that cannot use CSS variables. */
export const tokens = computed(() => {
  const style = getComputedStyle(document.documentElement)
  // Reading `dark` makes this follow the theme; the attribute is set before the next read.
  document.documentElement.dataset.theme = dark.value ? 'dark' : 'light'
  const read = (name: string) => style.getPropertyValue(`--${name}`).trim()
  return {
    paper: read('paper'),
    card: read('card'),
    rule: read('rule'),
    ink: read('ink'),
    ink2: read('ink-2'),
    copper: read('copper'),
    lake: read('lake'),
    silt: read('silt'),
    brick: read('brick'),
    ochre: read('ochre'),
    moss: read('moss'),
  }
})
export type Tokens = typeof tokens.value
