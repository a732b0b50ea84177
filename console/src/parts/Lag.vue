<script setup lang="ts">
import { computed } from 'vue'
import { at, span } from '../words'

// How far a table is behind its source, as a number and on a rule from a second to
// a day, each mark ten times or so the one before.
const props = defineProps<{ completeAt?: string; promised?: number; now: number }>()
const seconds = computed(() =>
  props.completeAt ? Math.max(0, (props.now - Date.parse(props.completeAt)) / 1000) : undefined,
)
/** Further behind than the feed promises, with some patience. */
const over = computed(
  () =>
    seconds.value !== undefined &&
    props.promised !== undefined &&
    seconds.value - props.promised > Math.max(60, props.promised / 2),
)
const says = computed(
  () =>
    `Everything the source committed before ${at(props.completeAt)} is in the warehouse` +
    (props.promised === undefined ? '' : `; the feed promises ${span(props.promised)}`),
)
const place = (s: number) =>
  (Math.min(Math.max(Math.log10(Math.max(s, 1)), 0), Math.log10(86_400)) / Math.log10(86_400)) * 62 + 1
const marks = [1, 10, 60, 600, 3600, 36_000, 86_400]
</script>

<template>
  <span v-if="seconds === undefined" class="quiet">–</span>
  <span v-else class="lag" :class="{ over }" :title="says">
    <svg width="64" height="12" aria-hidden="true">
      <line x1="1" x2="63" y1="9.5" y2="9.5" class="rule" />
      <line v-for="m in marks" :key="m" :x1="place(m)" :x2="place(m)" y1="7" y2="9.5" class="rule" />
      <path v-if="promised !== undefined" :d="`M${place(promised)} 12v-7`" class="promise" />
      <path :d="`M${place(seconds)} 8.5l-3.2-6h6.4Z`" class="pin" />
    </svg>
    <span v-if="over" class="word">promised {{ span(promised!) }}</span>
    <span class="n">{{ seconds < 60 ? `${Math.floor(seconds)} s` : span(seconds) }}</span>
  </span>
</template>

<style scoped>
.lag {
  display: inline-flex;
  gap: 8px;
  align-items: center;
  justify-content: flex-end;
  white-space: nowrap;
}
.n {
  min-width: 74px;
  text-align: right;
}
.rule {
  stroke: var(--ink-3);
  stroke-width: 1;
}
.pin {
  fill: var(--act);
}
.promise {
  stroke: var(--ink-2);
  stroke-width: 1.6;
}
.over {
  color: var(--bad);
}
.over .pin {
  fill: var(--bad);
}
.word {
  font-size: 12px;
}
</style>
