<script setup lang="ts">
import type { Schemas } from '@/api/client'
import { counted } from '@/ui/format'

/** What a recording holds for a step beside what came now, line by line. */
defineProps<{ comparison: Schemas['Comparison'] }>()
</script>

<template>
  <p v-if="comparison.same" class="text-[13px] text-ink-2">The answer is the one recorded.</p>
  <div v-else class="space-y-1 text-[13px]" data-testid="comparison">
    <p v-for="fact in comparison.facts" :key="fact" class="break-words">{{ fact }}</p>
    <div
      v-if="comparison.rows.length"
      class="max-h-96 overflow-auto border border-rule"
      tabindex="0"
      role="region"
      aria-label="Recorded and received, line by line"
    >
      <table class="figures w-full table-fixed text-[12px] leading-snug">
        <thead class="sticky top-0 bg-paper">
          <tr class="label text-left">
            <th scope="col" class="px-2 py-1 font-normal">Recorded</th>
            <th scope="col" class="border-l border-rule px-2 py-1 font-normal">Received now</th>
          </tr>
        </thead>
        <tbody>
          <template v-for="(row, i) in comparison.rows" :key="i">
            <tr v-if="row.skipped">
              <td colspan="2" class="label px-2 py-0.5">
                … {{ counted(row.skipped, 'equal line') }}
              </td>
            </tr>
            <tr class="align-top" :data-kind="row.kind">
              <td
                v-for="(side, k) in [row.recorded, row.received]"
                :key="k"
                class="px-2 break-all whitespace-pre-wrap"
                :class="{ 'border-l border-rule': k === 1, 'bg-card': row.kind !== 'same' }"
              >
                <template v-for="(span, n) in side ?? []" :key="n"
                  ><component
                    :is="span.differs ? (k === 0 ? 'del' : 'ins') : 'span'"
                    :class="
                      span.differs &&
                      'border-b-2 border-copper bg-copper/15 font-semibold no-underline'
                    "
                    >{{ span.text }}</component
                  ></template
                >
              </td>
            </tr>
          </template>
        </tbody>
      </table>
    </div>
    <p v-if="comparison.cut" class="label">Only the first 400 lines are compared.</p>
  </div>
</template>
