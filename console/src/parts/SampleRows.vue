<script setup lang="ts">
import { computed } from 'vue'
import type { Sample } from '../api'

const props = defineProps<{ sample: Sample }>()

type Row = { side: 'both' | 'source' | 'warehouse'; cells: (string | null)[]; added: (string | null)[] }

// Rows that are the same on both sides are one line; the others say where they are.
const lines = computed<Row[]>(() => {
  const width = props.sample.columns.length
  const left = props.sample.warehouse.map((row) => ({
    cells: (row ?? []).slice(0, width),
    added: (row ?? []).slice(width),
    used: false,
  }))
  const same = (a: (string | null)[], b: (string | null)[]) => a.every((v, i) => v === b[i])
  const found: Row[] = props.sample.source.map((row) => {
    const twin = left.find((w) => !w.used && same(row ?? [], w.cells))
    if (twin) twin.used = true
    return { side: twin ? 'both' : 'source', cells: row ?? [], added: twin?.added ?? [] }
  })
  return [
    ...found,
    ...left.filter((w) => !w.used).map((w): Row => ({ side: 'warehouse', cells: w.cells, added: w.added })),
  ]
})
const words = { both: '= both', source: '← source', warehouse: '→ warehouse' }
</script>

<template>
  <p v-if="lines.length === 0" class="pad quiet">The table is empty on both sides.</p>
  <div v-else class="scroll">
    <table class="rows tight">
      <thead>
        <tr>
          <th scope="col">On</th>
          <th v-for="c in sample.columns" :key="c" scope="col">{{ c }}</th>
          <th v-for="c in sample.added" :key="c" scope="col" class="added">{{ c }}</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="(line, i) in lines" :key="i" :class="line.side">
          <td class="nowrap side">{{ words[line.side] }}</td>
          <td v-for="(v, k) in line.cells" :key="k" class="cell" :title="v ?? 'null'">
            <span v-if="v === null" class="null">null</span><template v-else>{{ v }}</template>
          </td>
          <td v-for="(c, k) in sample.added" :key="c" class="cell quiet">{{ line.added[k] ?? '' }}</td>
        </tr>
      </tbody>
    </table>
  </div>
</template>

<style scoped>
.cell {
  font-family: var(--mono);
  font-size: 12px;
  max-width: 232px;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.null {
  color: var(--ink-3);
  font-style: italic;
}
.side {
  font-size: 12px;
  color: var(--ink-2);
}
tr.source .side,
tr.warehouse .side {
  color: var(--warn);
  font-weight: 600;
}
th.added {
  font-style: italic;
}
</style>
