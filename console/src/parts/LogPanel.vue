<script setup lang="ts">
import { LineChart, BarChart } from 'echarts/charts'
import { AriaComponent, GridComponent, TooltipComponent } from 'echarts/components'
import { use } from 'echarts/core'
import { CanvasRenderer } from 'echarts/renderers'
import { computed, onUnmounted, ref } from 'vue'
import VChart from 'vue-echarts'
import { api, ask, type Schemas } from '../api'
import { chartLook } from '../chart'
import { ago, bytes, count, span } from '../words'
import Lag from './Lag.vue'

// Where a feed stands in its source's change log, and how that was over time.
use([LineChart, BarChart, GridComponent, TooltipComponent, AriaComponent, CanvasRenderer])

const props = defineProps<{ feed: string; log: Schemas['LogStatus']; now: number }>()
const samples = ref<Schemas['LogSample'][]>([])
const hours = ref(0.25)
const spans = [
  { hours: 0.25, name: '15 min' },
  { hours: 3, name: '3 h' },
  { hours: 24, name: '24 h' },
]

async function load() {
  const { data } = await ask(
    api.GET('/api/v1/feeds/{name}/samples', {
      params: { path: { name: props.feed }, query: { hours: hours.value } },
    }),
  )
  if (data) samples.value = data
}
function show(h: number) {
  hours.value = h
  void load()
}
void load()
const timer = window.setInterval(load, 5000)
onUnmounted(() => clearInterval(timer))

const option = computed(() => {
  const { colour, axis, around } = chartLook(
    `How old what the warehouse shows was, and how many changes were applied, over the last ${hours.value} hours.`,
  )
  const points = (value: (s: Schemas['LogSample']) => number | undefined) =>
    samples.value.map((s) => [Date.parse(s.at), value(s) ?? null])
  const time = { type: 'time' as const, ...axis, splitLine: { show: false } }
  return {
    ...around,
    grid: [
      { left: 58, right: 16, top: 24, height: 68 },
      { left: 58, right: 16, top: 120, height: 58 },
    ],
    axisPointer: { link: [{ xAxisIndex: 'all' as const }] },
    xAxis: [
      { ...time, gridIndex: 0, axisLabel: { show: false } },
      { ...time, gridIndex: 1 },
    ],
    yAxis: [
      {
        type: 'value' as const,
        gridIndex: 0,
        splitNumber: 3,
        min: 0,
        ...axis,
        axisLabel: { ...axis.axisLabel, formatter: (v: number) => span(v) },
      },
      {
        type: 'value' as const,
        gridIndex: 1,
        splitNumber: 2,
        min: 0,
        minInterval: 1,
        ...axis,
        axisLabel: { ...axis.axisLabel, formatter: (v: number) => count(v) },
      },
    ],
    series: [
      {
        name: 'lag',
        type: 'line' as const,
        step: 'end' as const,
        symbol: 'none',
        data: points((s) => s.lag_seconds),
        lineStyle: { color: colour('--act'), width: 1.6 },
        itemStyle: { color: colour('--act') },
        tooltip: { valueFormatter: (v: unknown) => (typeof v === 'number' ? span(v) : 'unknown') },
      },
      {
        name: 'changes',
        type: 'bar' as const,
        xAxisIndex: 1,
        yAxisIndex: 1,
        barMaxWidth: 6,
        data: points((s) => s.applied),
        itemStyle: { color: colour('--warn') },
        tooltip: { valueFormatter: (v: unknown) => count(v as number) },
      },
    ],
  }
})
</script>

<template>
  <section class="sheet" aria-label="Change log">
    <header>
      <h2>Change log</h2>
      <span class="quiet">all tables of the feed advance together</span>
      <span class="grow"></span>
      <span role="group" aria-label="How far back the chart goes">
        <button
          v-for="s in spans"
          :key="s.hours"
          type="button"
          class="choice"
          :aria-pressed="s.hours === hours"
          @click="show(s.hours)">
          {{ s.name }}
        </button>
      </span>
    </header>
    <div class="both">
      <dl class="list">
        <div>
          <dt>Position</dt>
          <dd class="mono">{{ log.position || 'not begun' }}</dd>
        </div>
        <div>
          <dt>Lag</dt>
          <dd><Lag :complete-at="log.complete_at" :now="now" /></dd>
        </div>
        <div>
          <dt>Behind</dt>
          <dd>{{ bytes(log.behind_bytes) }}</dd>
        </div>
        <div :class="{ risk: log.risk }">
          <dt>Log the source keeps for it</dt>
          <dd>
            {{ bytes(log.retained_bytes)
            }}<template v-if="log.risk">, above the warning level of {{ bytes(log.warn_bytes) }}</template>
          </dd>
          <dd v-if="log.stop_bytes > 0" class="quiet">let go at {{ bytes(log.stop_bytes) }}</dd>
        </div>
        <div>
          <dt>Measured</dt>
          <dd>{{ ago(log.measured_at, now) }}</dd>
        </div>
      </dl>
      <div class="plots">
        <div class="names quiet" aria-hidden="true">
          <span>lag</span><span>changes applied, per {{ span(Math.max((hours * 3600) / 300, 5)) }} or so</span>
        </div>
        <VChart
          class="chart"
          role="img"
          :aria-label="`Lag and changes applied over the last ${span(hours * 3600)}`"
          :option="option"
          autoresize />
      </div>
    </div>
  </section>
</template>

<style scoped>
.both {
  display: grid;
  grid-template-columns: 270px minmax(0, 1fr);
}
@media (max-width: 720px) {
  .both {
    grid-template-columns: minmax(0, 1fr);
  }
}
.list {
  margin: 0;
  padding: 12px 16px;
  display: grid;
  gap: 10px;
  align-content: start;
  border-right: 1px solid var(--line);
}
.list dt {
  color: var(--ink-2);
  font-size: 12px;
}
.list dd {
  margin: 0;
  display: block;
  text-align: left;
}
.risk dd {
  color: var(--bad);
  font-weight: 600;
}
.plots {
  position: relative;
  min-width: 0;
}
.names span {
  position: absolute;
  left: 66px;
  font-size: 11px;
  z-index: 1;
}
.names span:first-child {
  top: 4px;
}
.names span:last-child {
  top: 100px;
}
.chart {
  height: 206px;
}
</style>
