<script setup lang="ts">
import { computed } from 'vue'
import { byComponent, type Line, type Stay } from '@/api/requests'
import { seconds, shareOf } from '@/ui/format'

/** The way of one request through the components of the system, as these told of it. */
const props = defineProps<{ line: Line; stays: Stay[] }>()
const whole = computed(() => Math.max(props.line.total_s, 1e-9))
const shares = computed(() => byComponent(props.stays, props.line.total_s))
const most = computed(() => shares.value[0])
/** What it did there, where one thing took more than half of that. */
const doing = computed(() => {
  const there = props.stays.filter((stay) => stay.component === most.value?.name && stay.depth > 0)
  const longest = there.toSorted((a, b) => b.own_s - a.own_s)[0]
  return longest && longest.own_s > (most.value?.seconds ?? 0) / 2 ? longest : undefined
})
const place = (stay: Stay) => ({
  left: `${(100 * stay.start_s) / whole.value}%`,
  width: `${(100 * stay.length_s) / whole.value}%`,
})
/** Beyond that the indent would leave no room for names. */
const DEEPEST = 6
</script>

<template>
  <div data-testid="path">
    <h2 class="text-[15px]">Its way through the system</h2>
    <p v-if="most" class="text-[13.5px]" data-testid="most">
      Most of it was spent {{ most.name ? `in ${most.name} itself` : 'outside of all that told' }}:
      <span class="figures">{{ seconds(most.seconds) }}</span> of
      <span class="figures">{{ seconds(line.total_s) }}</span> ({{
        shareOf(most.seconds / whole)
      }})<template v-if="doing"
        >; of that <span class="figures">{{ seconds(doing.own_s) }}</span> is
        <q>{{ doing.name }}</q></template
      >.
    </p>
    <ol class="mt-1 text-[13px]" aria-label="Its way">
      <li
        v-for="(stay, i) in stays"
        :key="i"
        class="grid grid-cols-[minmax(0,1fr)_minmax(0,9rem)_4rem] items-center gap-2 py-0.5"
      >
        <span
          class="truncate"
          :style="{ paddingLeft: `${0.75 * Math.min(stay.depth, DEEPEST)}rem` }"
          :title="`${stay.component} (${stay.instance}): ${stay.name}`"
          ><span v-if="stay.failed" class="text-brick" aria-label="failed">✕ </span
          ><strong v-if="stays[i - 1]?.component !== stay.component"
            >{{ stay.component }}&nbsp;</strong
          ><span class="text-ink-2">{{ stay.name }}</span></span
        >
        <span class="relative block h-2.5 rounded-[1px] bg-rule/40">
          <span
            class="absolute inset-y-0 min-w-[2px] rounded-[1px]"
            :class="stay.failed ? 'bg-brick' : 'bg-copper'"
            :style="place(stay)"
          />
        </span>
        <span class="figures text-right" :title="`${seconds(stay.own_s)} of it in none within`">{{
          seconds(stay.length_s)
        }}</span>
      </li>
    </ol>
    <table class="mt-2">
      <caption class="sr-only">
        Its time by component
      </caption>
      <tbody class="figures">
        <tr v-for="one in shares" :key="one.name">
          <th scope="row" class="font-sans !text-[13.5px] !text-ink">
            {{ one.name || 'outside of all that told' }}
          </th>
          <td class="text-right">{{ seconds(one.seconds) }}</td>
          <td class="text-right">{{ shareOf(one.seconds / whole) }}</td>
        </tr>
      </tbody>
    </table>
    <p class="label mt-1">
      As its servers told (traces); where the way began is taken to be as far from our sending as
      its end from our receiving.
    </p>
  </div>
</template>
