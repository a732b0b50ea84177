<script setup lang="ts">
import { ElButton, ElCheckbox, ElInput, ElTreeV2 } from 'element-plus'
import { computed, onMounted, ref, shallowRef, watch } from 'vue'
import { api, ask, type Schemas, type Trouble } from '../api'
import { patternOf } from '../feedfile'
import { bytes, count, plural } from '../words'
import TroubleBox from './TroubleBox.vue'

// Schemas and tables of a source, to choose from. The tree draws what is in sight alone.
type SourceTable = Schemas['SourceTable']
interface Node {
  id: string
  label: string
  table?: SourceTable
  children?: Node[]
  tables?: number
}

const props = defineProps<{ source: string }>()
const chosen = defineModel<string[]>('chosen', { required: true })
const later = defineModel<string[]>('later', { required: true }) // schemas whose later tables come, too
const tables = shallowRef<SourceTable[]>()
const wrong = ref<Trouble>()
const tree = ref<InstanceType<typeof ElTreeV2>>()
const search = ref('')

onMounted(async () => {
  const { data, trouble } = await ask(
    api.GET('/api/v1/sources/{name}/tables', { params: { path: { name: props.source } } }),
  )
  tables.value = data
  wrong.value = trouble
})

const nodes = computed<Node[]>(() => {
  const schemas = new Map<string, Node>()
  for (const t of tables.value ?? []) {
    let s = schemas.get(t.schema)
    if (!s) schemas.set(t.schema, (s = { id: `schema ${t.schema}`, label: t.schema, children: [] }))
    s.children!.push({
      id: t.table,
      label: t.table.startsWith(`${t.schema}.`) ? t.table.slice(t.schema.length + 1) : t.table,
      table: t,
    })
  }
  return [...schemas.values()].map((s) => ({ ...s, tables: s.children!.length }))
})
const opened = computed(() => (nodes.value.length <= 3 ? nodes.value.map((n) => n.id) : []))

watch(search, (text) => tree.value?.filter(text.toLowerCase()))
const matches = (text: string, node: { id?: unknown; table?: unknown }) =>
  !text ||
  (node.table !== undefined && String(node.id).toLowerCase().includes(text)) ||
  String((node.table as SourceTable | undefined)?.comment ?? '')
    .toLowerCase()
    .includes(text)

const set = computed(() => new Set(chosen.value))
const namesOf = (node: Node) => node.children?.map((c) => c.id) ?? [node.id]
/** How many of a node's tables are chosen. */
const taken = (node: Node) => namesOf(node).filter((name) => set.value.has(name)).length

function choose(node: Node, on: boolean) {
  const names = new Set(namesOf(node))
  const others = chosen.value.filter((name) => !names.has(name))
  chosen.value = on ? [...others, ...names] : others
}

/** All that are found, or none. */
function all(on: boolean) {
  const text = search.value.toLowerCase()
  const found = (tables.value ?? []).filter((t) => matches(text, { id: t.table, table: t })).map((t) => t.table)
  chosen.value = on ? [...new Set([...chosen.value, ...found])] : []
}

const byName = computed(() => new Map((tables.value ?? []).map((t) => [t.table, t])))
const picked = computed(() =>
  chosen.value.map((name) => byName.value.get(name)).filter((t): t is SourceTable => t !== undefined),
)
const rows = computed(() => picked.value.reduce((sum, t) => sum + Math.max(t.rows, 0), 0))
const size = computed(() => picked.value.reduce((sum, t) => sum + Math.max(t.bytes, 0), 0))
const unknown = computed(() => picked.value.filter((t) => t.rows < 0).length)
const schemasChosen = computed(() => [...new Set(picked.value.map((t) => t.schema))])
const kind = (t: SourceTable) =>
  t.view ? 'view' : t.partitioned ? 'partitioned' : t.key?.length ? `key ${t.key.join(', ')}` : 'no key'

function setLater(schema: string, on: boolean) {
  later.value = on ? [...later.value, schema] : later.value.filter((s) => s !== schema)
}
</script>

<template>
  <TroubleBox :trouble="wrong" />
  <p v-if="!tables && !wrong" class="quiet" role="status">Looking at the source…</p>
  <p v-else-if="tables?.length === 0" class="quiet">
    The source's user sees no table. Grant it SELECT on those that are to be read, and come back.
  </p>
  <div v-else-if="tables" class="choose">
    <div class="left">
      <div class="all">
        <ElInput v-model="search" clearable placeholder="Search by name or comment" aria-label="Search tables" />
        <ElButton @click="all(true)">Choose all</ElButton>
        <ElButton :disabled="!chosen.length" @click="all(false)">None</ElButton>
      </div>
      <ElTreeV2
        ref="tree"
        :data="nodes"
        :props="{ value: 'id', label: 'label', children: 'children' }"
        :height="430"
        :item-size="28"
        :default-expanded-keys="opened"
        :filter-method="matches">
        <template #default="{ node, data }">
          <span class="node">
            <input
              type="checkbox"
              class="tick"
              :checked="taken(data) > 0"
              :indeterminate="taken(data) > 0 && taken(data) < namesOf(data).length"
              :aria-label="`Choose ${data.id}`"
              @click.stop
              @change="(e) => choose(data, (e.target as HTMLInputElement).checked)" />
            <span class="mono name">{{ node.label }}</span>
            <span v-if="data.table" class="quiet kind" :title="data.table.comment"
              >{{ kind(data.table) }}{{ data.table.comment ? ' · ' + data.table.comment : '' }}</span
            >
            <span v-else class="quiet kind">{{ plural(data.tables, 'table') }}</span>
            <span v-if="data.table" class="n">{{
              data.table.rows < 0 ? '–' : count(data.table.rows) + ' rows'
            }}</span>
            <span v-if="data.table" class="n">{{ data.table.bytes < 0 ? '–' : bytes(data.table.bytes) }}</span>
          </span>
        </template>
      </ElTreeV2>
    </div>
    <aside class="right" aria-live="polite">
      <p>
        <strong>{{ plural(chosen.length, 'table') }} chosen</strong>
      </p>
      <p v-if="picked.length">
        About {{ count(rows) }} rows, {{ bytes(size) }}, by the source's own statistics<template v-if="unknown"
          >; of {{ plural(unknown, 'table') }} it has none</template
        >.
      </p>
      <template v-if="schemasChosen.length">
        <p class="quiet">Tables that come later:</p>
        <div v-for="s in schemasChosen" :key="s">
          <ElCheckbox :model-value="later.includes(s)" @change="(on) => setLater(s, !!on)"
            >bring those of <span class="mono">{{ s }}</span
            >, too</ElCheckbox
          >
        </div>
        <p v-if="later.length" class="quiet">
          The pattern {{ later.map(patternOf).join(', ') }} stands for each new table there, without views; those that
          you leave out now stay out.
        </p>
      </template>
    </aside>
  </div>
</template>

<style scoped>
.choose {
  display: grid;
  grid-template-columns: minmax(0, 1fr) 270px;
  gap: 20px;
}
.left {
  min-width: 0;
}
.left :deep(.el-tree) {
  background: none;
}
.left :deep(.el-tree-node__content) {
  padding-right: 8px;
}
.right :deep(.el-checkbox__label) {
  font-size: 13px;
}
.all {
  display: flex;
  gap: 8px;
  margin-bottom: 6px;
}
.all .el-button {
  margin: 0;
}
.node {
  display: flex;
  gap: 12px;
  align-items: baseline;
  width: 100%;
  min-width: 0;
  font-size: 13px;
}
.tick {
  accent-color: var(--act);
  margin: 0;
  align-self: center;
  width: 14px;
  height: 14px;
}
.name {
  white-space: nowrap;
}
.kind {
  flex: 1;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
  font-size: 12px;
}
.n {
  text-align: right;
  min-width: 86px;
  white-space: nowrap;
}
@media (max-width: 720px) {
  .choose {
    grid-template-columns: 1fr;
  }
  .n {
    min-width: 0;
  }
}
</style>
