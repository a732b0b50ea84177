<script setup lang="ts">
import { ElButton, ElInput, ElOption, ElSelect } from 'element-plus'
import { computed, ref, watch } from 'vue'
import { useActs } from '../act'
import { api, ask, type Connection, type Proposed } from '../api'
import { count, plural } from '../words'
import TroubleBox from './TroubleBox.vue'

// A feed file, proposed from what a source offers.
defineProps<{ brief: boolean }>()
const emit = defineEmits<{ proposed: [file: string] }>()
const sources = ref<Connection[]>()
const warehouses = ref<Connection[]>()
const source = ref('')
const warehouse = ref('')
const tables = ref('')
const result = ref<Proposed>()
const { busy, refused, act } = useActs()

async function look() {
  const [from, to] = await Promise.all([ask(api.GET('/api/v1/sources')), ask(api.GET('/api/v1/warehouses'))])
  sources.value = from.data ?? undefined
  warehouses.value = to.data ?? undefined
  refused.value = from.trouble ?? to.trouble
  source.value = sources.value?.[0]?.name ?? ''
  warehouse.value = warehouses.value?.[0]?.name ?? ''
}
void look()

/** Where the tables of a source most likely are. */
const pattern = computed(() => {
  const of = sources.value?.find((s) => s.name === source.value)
  if (!of) return ''
  return of.kind === 'postgresql' ? 'public.*' : `${of.settings.database}.*`
})
watch(pattern, (usual) => (tables.value = usual))

async function propose() {
  result.value = undefined
  const body = {
    source: source.value,
    warehouse: warehouse.value,
    tables: tables.value.split(/[,\s]+/).filter(Boolean),
  }
  const { data } = await act('propose', () => ask(api.POST('/api/v1/proposals', { body })))
  result.value = data
  if (data) emit('proposed', data.file)
}
</script>

<template>
  <div class="propose">
    <p v-if="sources?.length === 0 || warehouses?.length === 0" class="quiet">
      To have a file proposed, add a <RouterLink to="/sources">source</RouterLink> and a
      <RouterLink to="/warehouses">warehouse</RouterLink> first.
    </p>
    <form v-else class="ask" @submit.prevent="propose">
      <label
        >From
        <ElSelect v-model="source" class="name" aria-label="Source"
          ><ElOption v-for="s in sources" :key="s.name" :label="s.name" :value="s.name" /></ElSelect
      ></label>
      <label
        >to
        <ElSelect v-model="warehouse" class="name" aria-label="Warehouse"
          ><ElOption v-for="w in warehouses" :key="w.name" :label="w.name" :value="w.name" /></ElSelect
      ></label>
      <label
        >the tables
        <ElInput
          v-model="tables"
          class="names"
          aria-label="Tables, or patterns"
          placeholder="public.*"
          spellcheck="false"
      /></label>
      <ElButton native-type="submit" :loading="busy === 'propose'" :disabled="!source || !warehouse || !tables.trim()"
        >Propose</ElButton
      >
    </form>
    <TroubleBox :trouble="refused" />
    <div v-if="result && !brief" class="scroll said" role="region" aria-label="What is proposed" tabindex="0">
      <p v-for="(f, i) in result.findings" :key="i">
        <strong>{{ f.level }}</strong> {{ f.table ? f.table + ': ' : '' }}{{ f.what }}
        <span class="quiet">{{ f.remedy }}</span>
      </p>
      <table class="rows">
        <caption class="visually-hidden">
          {{
            plural(result.tables.length, 'table')
          }}
        </caption>
        <thead>
          <tr>
            <th scope="col">Table</th>
            <th class="n" scope="col">Rows</th>
            <th scope="col">Find, keep</th>
            <th scope="col">Why</th>
            <th scope="col">Looks private</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="t in result.tables" :key="t.table">
            <td class="mono">{{ t.table }}</td>
            <td class="n">{{ t.rows < 0 ? '–' : count(t.rows) }}</td>
            <td class="how">{{ t.find }}, {{ t.keep }}</td>
            <td class="sentence">{{ t.why }}</td>
            <td class="sentence">
              <div v-for="c in t.private" :key="c.column">
                <span class="mono">{{ c.column }}</span> like {{ c.looks }}: {{ c.treatment || 'to be decided' }}
              </div>
            </td>
          </tr>
        </tbody>
      </table>
    </div>
  </div>
</template>

<style scoped>
.propose {
  margin-bottom: 12px;
}
.ask {
  display: flex;
  flex-wrap: wrap;
  gap: 8px 12px;
  align-items: center;
}
.ask label {
  display: flex;
  gap: 6px;
  align-items: center;
}
.name {
  width: 160px;
}
.names {
  width: 220px;
  font-family: var(--mono);
}
.said {
  max-height: 34vh;
  overflow: auto;
  margin-top: 8px;
}
.how {
  white-space: nowrap;
}
.sentence {
  white-space: normal;
  min-width: 14em;
}
</style>
