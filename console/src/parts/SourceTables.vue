<script setup lang="ts">
import { ElSkeleton } from 'element-plus'
import { onMounted, ref } from 'vue'
import { api, ask, type Schemas, type Trouble } from '../api'
import { count } from '../words'
import TroubleBox from './TroubleBox.vue'

// The tables of a source; one at a time shows its columns.
const props = defineProps<{ source: string }>()
const tables = ref<Schemas['SourceTable'][]>()
const shown = ref<Schemas['SourceTable']>()
const wrong = ref<Trouble>()

onMounted(async () => {
  const { data, trouble } = await ask(
    api.GET('/api/v1/sources/{name}/tables', { params: { path: { name: props.source } } }),
  )
  tables.value = data
  wrong.value = trouble
})

async function show(table: string) {
  if (shown.value?.table === table) {
    shown.value = undefined
    return
  }
  const { data, trouble } = await ask(
    api.GET('/api/v1/sources/{name}/table', { params: { path: { name: props.source }, query: { table } } }),
  )
  shown.value = data
  wrong.value = trouble
}
</script>

<template>
  <TroubleBox :trouble="wrong" />
  <div v-if="!tables && !wrong" class="pad"><ElSkeleton :rows="3" animated /></div>
  <table v-if="tables" class="rows">
    <thead>
      <tr>
        <th scope="col">Table</th>
        <th scope="col">Kind</th>
        <th class="n" scope="col">Rows (estimate)</th>
      </tr>
    </thead>
    <tbody>
      <template v-for="t in tables" :key="t.table">
        <tr>
          <td>
            <button class="link" type="button" :aria-expanded="shown?.table === t.table" @click="show(t.table)">
              {{ t.table }}
            </button>
          </td>
          <td>{{ t.view ? 'view' : 'table' }}</td>
          <td class="n">{{ t.rows < 0 ? '–' : count(t.rows) }}</td>
        </tr>
        <tr v-if="shown?.table === t.table">
          <td colspan="3">
            <p class="quiet">Key: {{ shown.key?.join(', ') || 'none' }}</p>
            <table class="rows">
              <thead>
                <tr>
                  <th scope="col">Column</th>
                  <th scope="col">Type</th>
                  <th scope="col">Travels as</th>
                  <th scope="col">Null</th>
                  <th scope="col">Can be a watermark</th>
                </tr>
              </thead>
              <tbody>
                <tr v-for="c in shown.columns" :key="c.name">
                  <td>{{ c.name }}</td>
                  <td class="mono">{{ c.native }}</td>
                  <td class="mono">{{ c.type }}</td>
                  <td>{{ c.nullable ? 'yes' : 'no' }}</td>
                  <td>{{ c.watermark ? 'yes' : 'no' }}</td>
                </tr>
              </tbody>
            </table>
          </td>
        </tr>
      </template>
    </tbody>
  </table>
</template>
