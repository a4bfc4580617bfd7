<script setup lang="ts">
import type { SeriesFindings } from '@/api/series'
import { amount, figure, loadFigure, percent, seconds, users } from '@/ui/format'

/** What each candidate is and asks for. */
const props = defineProps<{ found: SeriesFindings; factor: string }>()
const use = (one: SeriesFindings['candidates'][number]['uses'][number]) =>
  `${one.key.replace('.', ' ')} ${one.bytes === null ? percent(one.share) : amount(one.bytes, 'B')}`
const load = (value: number) => (props.found.unit === 'users' ? users(value) : loadFigure(value))
</script>

<template>
  <section aria-label="What each is" class="space-y-3" data-testid="summary">
    <h2>What each is</h2>
    <div
      v-for="one in found.candidates"
      :key="one.candidate + one.value"
      class="border-t border-rule pt-2"
    >
      <h3 class="font-semibold break-words">
        {{ one.candidate
        }}<span v-if="one.value" class="font-normal">, {{ factor }} {{ one.value }}</span>
      </h3>
      <p v-if="one.what.length" class="break-words text-ink-2">{{ one.what.join(', ') }}</p>
      <dl class="mt-1 grid grid-cols-[auto_1fr] gap-x-3">
        <template v-if="one.ready_after_s !== null">
          <dt class="label">Under load after</dt>
          <dd class="figures">{{ seconds(one.ready_after_s) }}</dd>
        </template>
        <template v-if="one.uses.length">
          <dt class="label">Used</dt>
          <dd class="figures">
            <span v-for="u in one.uses" :key="u.key" class="block">{{ use(u) }}</span>
          </dd>
        </template>
        <template v-if="one.comfort !== null">
          <dt class="label">Comfort limit</dt>
          <dd class="figures">{{ load(one.comfort) }} {{ found.unit }}</dd>
        </template>
        <template v-if="one.errors !== null">
          <dt class="label">Failed steps</dt>
          <dd class="figures">{{ percent(one.errors) }}</dd>
        </template>
        <template v-if="one.cost_per_hour !== null">
          <dt class="label">Cost</dt>
          <dd class="figures">{{ figure(one.cost_per_hour) }} {{ found.currency }} an hour</dd>
        </template>
      </dl>
      <p class="label">
        {{ one.turns ? `Medians over its turns so far: ${one.turns}.` : 'No turn yet.' }}
      </p>
    </div>
  </section>
</template>
