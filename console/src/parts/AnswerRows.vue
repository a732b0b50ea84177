<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import type { Answered } from '../api'
import { count } from '../words'

// The rows of an answer. Only those in sight are drawn, so that very many are as quick as few.
const props = defineProps<{ answer: Answered }>()
const height = 27
const beyond = 8 // rows that are drawn above and below what is in sight
const box = ref<HTMLElement>()
const top = ref(0)
const tall = ref(520)

watch(
  () => props.answer,
  () => {
    top.value = 0
    if (box.value) box.value.scrollTop = 0
  },
)
function scrolled() {
  top.value = box.value!.scrollTop
  tall.value = box.value!.clientHeight
}
const first = computed(() => Math.max(0, Math.floor(top.value / height) - beyond))
const last = computed(() => Math.min(props.answer.rows.length, Math.ceil((top.value + tall.value) / height) + beyond))
const drawn = computed(() => props.answer.rows.slice(first.value, last.value))
const numbers = computed(() =>
  props.answer.columns.map((c) => /^(int|float|decimal|numeric)/.test(c.kind) && c.kind !== 'interval'),
)

// A column is as wide as its widest text among the first rows, within bounds; it stays so while one scrolls.
const widths = computed(() =>
  props.answer.columns.map((c, i) => {
    let most = Math.max(c.name.length, c.type.length)
    for (const r of props.answer.rows.slice(0, 200)) most = Math.max(most, (r[i] ?? '').length)
    return Math.min(Math.max(most + 3, 8), 46)
  }),
)
const cell = (v: string | null | undefined) => (v == null ? '∅' : v.length > 400 ? v.slice(0, 400) + '…' : v)
</script>

<template>
  <div ref="box" class="answer" tabindex="0" role="region" aria-label="The answer's rows" @scroll.passive="scrolled">
    <table :style="{ width: widths.reduce((a, b) => a + b, 8) + 'ch' }" :aria-rowcount="answer.rows.length + 1">
      <colgroup>
        <col style="width: 8ch" />
        <col v-for="(w, i) in widths" :key="i" :style="{ width: w + 'ch' }" />
      </colgroup>
      <thead>
        <tr aria-rowindex="1">
          <th class="n" scope="col">Row</th>
          <th v-for="(c, i) in answer.columns" :key="i" scope="col" :class="{ n: numbers[i] }" :title="c.type">
            {{ c.name }}<small>{{ c.type.toLowerCase() }}</small>
          </th>
        </tr>
      </thead>
      <tbody>
        <tr v-if="first > 0" aria-hidden="true" :style="{ height: first * height + 'px' }">
          <td></td>
        </tr>
        <tr v-for="(r, i) in drawn" :key="first + i" :aria-rowindex="first + i + 2">
          <td class="n quiet">{{ count(first + i + 1) }}</td>
          <td v-for="(v, k) in r" :key="k" :class="{ n: numbers[k], none: v == null }" :title="v ?? 'null'">
            {{ cell(v) }}
          </td>
        </tr>
        <tr
          v-if="last < answer.rows.length"
          aria-hidden="true"
          :style="{ height: (answer.rows.length - last) * height + 'px' }">
          <td></td>
        </tr>
      </tbody>
    </table>
  </div>
</template>

<style scoped>
.answer {
  max-height: 56vh;
  overflow: auto;
}
table {
  table-layout: fixed;
  border-collapse: separate;
  border-spacing: 0;
  min-width: 100%;
}
th {
  position: sticky;
  top: 0;
  z-index: 1;
  background: var(--sheet);
  text-align: left;
  font-weight: 600;
  font-size: 12px;
  padding: 5px 10px;
  border-bottom: 1px solid var(--line);
  white-space: nowrap;
  overflow: hidden;
  text-overflow: ellipsis;
}
th small {
  display: block;
  font-weight: 400;
  color: var(--ink-2);
}
td {
  height: 27px;
  padding: 0 10px;
  border-bottom: 1px solid var(--line-soft);
  white-space: nowrap;
  overflow: hidden;
  text-overflow: ellipsis;
}
.n {
  text-align: right;
}
.none {
  color: var(--ink-2);
}
</style>
