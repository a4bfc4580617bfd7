<script setup lang="ts">
/** Rows of data as they stand in a feed, numbered. */
defineProps<{ columns: string[]; rows: string[][]; start: number }>()
</script>

<template>
  <div class="overflow-x-auto border-y border-rule" tabindex="0" role="region" aria-label="Rows">
    <table class="min-w-full text-[13px]">
      <thead>
        <tr>
          <th scope="col" class="label w-0 py-1 pr-3 text-right font-normal">Row</th>
          <th
            v-for="(column, i) in columns"
            :key="i"
            scope="col"
            class="figures py-1 pr-4 text-left font-semibold"
          >
            {{ column }}
          </th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="(row, i) in rows" :key="i" class="border-t border-rule">
          <td class="figures label py-0.5 pr-3 text-right">{{ start + i + 1 }}</td>
          <td
            v-for="(_, k) in columns"
            :key="k"
            class="figures max-w-64 truncate py-0.5 pr-4"
            :title="row[k]"
          >
            <span v-if="row[k] === undefined" class="text-brick">missing</span>
            <span v-else-if="row[k] === ''" class="label">empty</span>
            <template v-else>{{ row[k] }}</template>
          </td>
        </tr>
      </tbody>
    </table>
  </div>
</template>
