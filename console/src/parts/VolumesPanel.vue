<script setup lang="ts">
import { BarChart } from 'echarts/charts'
import { AriaComponent, GridComponent, LegendComponent, TooltipComponent } from 'echarts/components'
import { use } from 'echarts/core'
import { CanvasRenderer } from 'echarts/renderers'
import { computed, ref, watch } from 'vue'
import VChart from 'vue-echarts'
import { api, ask, type Schemas } from '../api'
import { chartLook } from '../chart'
import { bytes, count, plural } from '../words'

// Rows that were written, by day, and what that was of each table.
use([BarChart, GridComponent, TooltipComponent, LegendComponent, AriaComponent, CanvasRenderer])

const props = defineProps<{ feed: string; table?: string; run?: number }>()
type Volume = Schemas['Volume']
const list = ref<Volume[]>([])
const days = ref(14)
watch(
  () => [props.run, days.value],
  async () => {
    const { data } = await ask(
      api.GET('/api/v1/feeds/{name}/volumes', {
        params: { path: { name: props.feed }, query: { table: props.table, days: days.value } },
      }),
    )
    if (data) list.value = data
  },
  { immediate: true },
)

const kinds = ['inserted', 'updated', 'deleted'] as const
const dates = computed(() => {
  const today = Date.now()
  return Array.from({ length: days.value }, (_, i) =>
    new Date(today - (days.value - 1 - i) * 86_400_000).toISOString().slice(0, 10),
  )
})
const sum = (of: Volume[], what: (v: Volume) => number) => of.reduce((n, v) => n + what(v), 0)
const tables = computed(() => {
  const by = new Map<string, Volume[]>()
  for (const v of list.value) by.set(v.table, [...(by.get(v.table) ?? []), v])
  return [...by]
    .map(([table, of]) => ({ table, of }))
    .sort((a, b) => sum(b.of, (v) => v.read) - sum(a.of, (v) => v.read))
})

const option = computed(() => {
  const { colour, axis, legend, around } = chartLook(
    `Rows inserted, updated and deleted on each of the last ${days.value} days.`,
  )
  const fill = { inserted: colour('--act'), updated: colour('--warn'), deleted: colour('--bad') }
  return {
    ...around,
    legend,
    grid: { left: 64, right: 16, top: 30, bottom: 24 },
    xAxis: {
      type: 'category' as const,
      data: dates.value,
      ...axis,
      axisLabel: { ...axis.axisLabel, formatter: (d: string) => d.slice(5) },
    },
    yAxis: {
      type: 'value' as const,
      splitNumber: 3,
      minInterval: 1,
      ...axis,
      axisLabel: { ...axis.axisLabel, formatter: (v: number) => count(v) },
    },
    series: kinds.map((k) => ({
      name: k,
      type: 'bar' as const,
      stack: 'rows',
      barMaxWidth: 26,
      itemStyle: { color: fill[k] },
      data: dates.value.map((d) =>
        sum(
          list.value.filter((v) => v.day === d),
          (v) => v[k],
        ),
      ),
      tooltip: { valueFormatter: (v: unknown) => count(v as number) },
    })),
  }
})
</script>

<template>
  <section v-if="list.length" class="sheet" aria-label="Change by day">
    <header>
      <h2>Change by day</h2>
      <span class="quiet">rows written to the warehouse, by days of UTC</span>
      <span class="grow"></span>
      <span role="group" aria-label="How many days show">
        <button
          v-for="d in [14, 60]"
          :key="d"
          type="button"
          class="choice"
          :aria-pressed="d === days"
          @click="days = d">
          {{ d }} days
        </button>
      </span>
    </header>
    <VChart
      class="chart"
      role="img"
      :aria-label="`Rows written on each of the last ${days} days`"
      :option="option"
      autoresize />
    <div v-if="!table" class="scroll">
      <table class="rows tight">
        <thead>
          <tr>
            <th scope="col">Table, in {{ plural(days, 'day') }}</th>
            <th class="n" scope="col">Read</th>
            <th class="n" scope="col">Size</th>
            <th class="n" scope="col">Inserted</th>
            <th class="n" scope="col">Updated</th>
            <th class="n" scope="col">Deleted</th>
            <th class="n" scope="col">Set aside</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="t in tables" :key="t.table">
            <td class="nowrap">
              <RouterLink :to="{ path: `/feeds/${feed}/table`, query: { name: t.table } }">{{ t.table }}</RouterLink>
            </td>
            <td class="n">{{ count(sum(t.of, (v) => v.read)) }}</td>
            <td class="n nowrap">{{ bytes(sum(t.of, (v) => v.bytes)) }}</td>
            <td class="n">{{ count(sum(t.of, (v) => v.inserted)) }}</td>
            <td class="n">{{ count(sum(t.of, (v) => v.updated)) }}</td>
            <td class="n">{{ count(sum(t.of, (v) => v.deleted)) }}</td>
            <td class="n">{{ count(sum(t.of, (v) => v.set_aside)) }}</td>
          </tr>
        </tbody>
      </table>
    </div>
  </section>
</template>

<style scoped>
.chart {
  height: 180px;
  margin: 10px 0 6px;
}
</style>
