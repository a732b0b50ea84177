<script setup lang="ts">
import { ElOption, ElRadioButton, ElRadioGroup, ElSelect } from 'element-plus'
import { BarChart, LineChart } from 'echarts/charts'
import { AriaComponent, GridComponent, LegendComponent, TooltipComponent } from 'echarts/components'
import { use } from 'echarts/core'
import { CanvasRenderer } from 'echarts/renderers'
import { computed, ref, watch } from 'vue'
import VChart from 'vue-echarts'
import type { Answered, AnsweredColumn } from '../api'
import { chartLook } from '../chart'
import { count } from '../words'

// An answer as a chart: one column along the bottom, and columns of numbers above it.
use([BarChart, LineChart, GridComponent, TooltipComponent, LegendComponent, AriaComponent, CanvasRenderer])

const props = defineProps<{ answer: Answered }>()
const most = 2000
const isNumber = (c: AnsweredColumn) => /^(int(16|32|64)|float|decimal|numeric)/.test(c.kind)
const along = ref('')
const above = ref<string[]>([])
const form = ref<'bar' | 'line'>('bar')
watch(
  () => props.answer.columns,
  (columns) => {
    const words = columns.filter((c) => !isNumber(c))
    along.value = (words[0] ?? columns[0])?.name ?? ''
    above.value = columns
      .filter((c) => isNumber(c) && c.name !== along.value)
      .slice(0, 3)
      .map((c) => c.name)
    form.value = /^(date|time)/.test(words[0]?.kind ?? '') ? 'line' : 'bar'
  },
  { immediate: true },
)
const place = (name: string) => props.answer.columns.findIndex((c) => c.name === name)
const option = computed(() => {
  const { colour, axis, legend, around } = chartLook(`${above.value.join(', ')} by ${along.value}`)
  const rows = props.answer.rows.slice(0, most)
  const fills = ['--act', '--warn', '--bad', '--good', '--ink-3']
  return {
    ...around,
    legend,
    grid: { left: 70, right: 20, top: 34, bottom: 56 },
    xAxis: {
      type: 'category' as const,
      data: rows.map((r) => r[place(along.value)] ?? '∅'),
      ...axis,
      axisLabel: { ...axis.axisLabel, hideOverlap: true, width: 110, overflow: 'truncate' as const },
    },
    yAxis: {
      type: 'value' as const,
      ...axis,
      axisLabel: { ...axis.axisLabel, formatter: (v: number) => (Number.isInteger(v) ? count(v) : String(v)) },
    },
    series: above.value.map((name, i) => ({
      name,
      type: form.value,
      data: rows.map((r) => (r[place(name)] == null ? null : Number(r[place(name)]))),
      itemStyle: { color: colour(fills[i % fills.length]!) },
      lineStyle: { width: 2 },
      symbolSize: 5,
      barMaxWidth: 46,
    })),
  }
})
</script>

<template>
  <div class="pad">
    <div class="head">
      <ElRadioGroup v-model="form" size="small" aria-label="Form of the chart">
        <ElRadioButton value="bar">Bars</ElRadioButton>
        <ElRadioButton value="line">Lines</ElRadioButton>
      </ElRadioGroup>
      <label>
        along
        <ElSelect v-model="along" size="small" style="width: 180px" aria-label="Column along the bottom">
          <ElOption v-for="c in answer.columns" :key="c.name" :value="c.name" :label="c.name" />
        </ElSelect>
      </label>
      <label>
        numbers
        <ElSelect
          v-model="above"
          size="small"
          multiple
          collapse-tags
          style="width: 260px"
          aria-label="Columns of numbers">
          <ElOption v-for="c in answer.columns.filter(isNumber)" :key="c.name" :value="c.name" :label="c.name" />
        </ElSelect>
      </label>
      <span v-if="answer.rows.length > most" class="quiet">the first {{ count(most) }} rows</span>
    </div>
    <p v-if="!above.length" class="quiet">There is no column of numbers to draw.</p>
    <VChart v-else class="chart" :option="option" autoresize />
  </div>
</template>

<style scoped>
.chart {
  height: 420px;
}
</style>
