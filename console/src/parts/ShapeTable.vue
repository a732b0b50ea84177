<script setup lang="ts">
import { ElButton, ElCheckbox, ElDialog, ElInput } from 'element-plus'
import { computed, ref, watch } from 'vue'
import { api, ask, type Preview, type Schemas, type Trouble } from '../api'
import {
  asks,
  type Computed,
  nameOf,
  type Said,
  saidOf,
  setColumn,
  setComputed,
  setOfTable,
  setWatermark,
  tablesOf,
  takeOf,
  treated,
  type Treatment,
  treatmentOf,
  treatments,
  typeOf,
  types,
} from '../feedfile'
import { count } from '../words'
import OneOf from './OneOf.vue'
import PreviewRows from './PreviewRows.vue'
import TroubleBox from './TroubleBox.vue'

// What becomes of a table's rows on their way, with real rows before and after each step.
const shown = defineModel<boolean>({ required: true })
const file = defineModel<string>('file', { required: true })
const props = defineProps<{ source: string; index: number }>()
const entry = computed(() => tablesOf(file.value)[props.index])
const described = ref<Schemas['SourceTable']>()
const preview = ref<Preview>()
const wrong = ref<Trouble>()
const where = ref('')
const names = ref<Record<string, string>>({})
const example = 'kind == "card" && amount > 0'
type Taken = [name: string, path: string, type: string]
/** What is being entered: paths into a column, and columns made of others, of which some are not whole yet. */
const taken = ref<Record<string, Taken[]>>({})
const made = ref<(Computed & { name: string })[]>([])

watch(shown, async (now) => {
  if (!now || !entry.value) return
  described.value = preview.value = wrong.value = undefined
  where.value = entry.value.where
  const { data, trouble } = await ask(
    api.GET('/api/v1/sources/{name}/table', {
      params: { path: { name: props.source }, query: { table: entry.value.table } },
    }),
  )
  for (const c of data?.columns ?? []) {
    names.value[c.name] = nameOf(saidOf(entry.value, c.name))
    taken.value[c.name] = takeOf(saidOf(entry.value, c.name))
  }
  made.value = Object.entries(entry.value.computed).map(([name, c]) => ({ name, ...c }))
  described.value = data
  wrong.value = trouble
  if (data) void look()
})

/** The rows are looked at again a moment after the last change; only the newest answer counts. */
let newest = 0
let timer = 0
async function look() {
  const mine = ++newest
  const { data, trouble } = await ask(
    api.POST('/api/v1/previews', { body: { file: file.value, table: entry.value!.table, rows: 6 } }),
  )
  if (mine !== newest) return
  preview.value = data ?? preview.value
  wrong.value = trouble
}
watch(file, () => {
  clearTimeout(timer)
  if (shown.value) timer = window.setTimeout(look, 400)
})
watch(where, (text) => {
  if (entry.value && text.trim() !== entry.value.where)
    file.value = setOfTable(file.value, props.index, 'where', text.trim())
})

function treat(column: string, treatment: Treatment) {
  file.value = setColumn(file.value, props.index, column, treated(file.value, saidOf(entry.value, column), treatment))
}

function change(column: string, to: Said) {
  file.value = setColumn(file.value, props.index, column, {
    ...(saidOf(entry.value, column) as Said | undefined),
    ...to,
  })
}

function take(column: string) {
  const whole = taken.value[column]!.filter(([name, path]) => name.trim() && path.trim())
  change(column, {
    take: Object.fromEntries(
      whole.map(([name, path, type]) => [name.trim(), type ? { path: path.trim(), type } : path.trim()]),
    ),
  })
}

function make() {
  const whole = made.value.filter((c) => c.name.trim() && c.value.trim())
  file.value = setComputed(
    file.value,
    props.index,
    Object.fromEntries(whole.map((c) => [c.name.trim(), { value: c.value.trim(), type: c.type }])),
  )
}

/** What a treatment asks for besides, such as how many characters. */
const asked = (column: string) => asks[treatmentOf(saidOf(entry.value, column))]
const given = (column: string) =>
  String((saidOf(entry.value, column) as Record<string, unknown> | undefined)?.[asked(column)?.key ?? ''] ?? '')
function give(column: string, value: string) {
  const { key } = asked(column)!
  change(column, { [key]: key === 'count' && /^\d+$/.test(value) ? Number(value) : value })
}

const watermarks = computed(() => (described.value?.columns ?? []).filter((c) => c.watermark).map((c) => c.name))

/** How many rows of the table stay, by what stays of those looked at. */
const stay = computed(() => {
  const p = preview.value
  const rows = described.value?.rows ?? -1
  if (!p?.read || !p.filtered || rows < 0) return ''
  return `By this, about ${count(Math.round((rows * (p.read - p.filtered)) / p.read))} of ${count(rows)} rows stay.`
})
const offered = computed(() => [
  ...(described.value?.columns?.map((c) => c.name) ?? []),
  '==',
  '!=',
  '<',
  '&&',
  '||',
  '!',
  '.startsWith("")',
  '.contains("")',
  '.matches("")',
  'timestamp("2026-01-01T00:00:00Z")',
  '== null',
])
</script>

<template>
  <ElDialog
    v-model="shown"
    :title="`Shape ${entry?.table ?? ''}`"
    width="min(1180px, 96vw)"
    align-center
    append-to-body>
    <div class="both">
      <section aria-label="Columns" class="columns">
        <label v-if="entry?.find === 'watermark'" class="mark"
          >What is new is told by
          <OneOf
            :model-value="entry.watermark"
            placeholder="a column that rises"
            aria-label="Watermark column"
            @change="(c: string) => (file = setWatermark(file, index, c))"
            :words="watermarks" />
        </label>
        <div class="scroll list" tabindex="0" role="region" aria-label="Columns and what becomes of them">
          <table v-if="described" class="rows tight">
            <thead>
              <tr>
                <th scope="col">Column</th>
                <th scope="col">Arrives</th>
                <th scope="col">As</th>
                <th scope="col">Stored as</th>
              </tr>
            </thead>
            <tbody v-for="c in described.columns" :key="c.name">
              <tr>
                <td>
                  <span class="mono">{{ c.name }}</span
                  ><span v-if="described.key?.includes(c.name)" class="quiet"> key</span>
                  <div class="mono quiet native">{{ c.native }}</div>
                </td>
                <td>
                  <OneOf
                    :model-value="treatmentOf(saidOf(entry, c.name))"
                    class="pick"
                    :aria-label="`What becomes of ${c.name}`"
                    @change="(t: Treatment) => treat(c.name, t)"
                    :words="treatments" />
                  <ElInput
                    v-if="asked(c.name)"
                    :model-value="given(c.name)"
                    size="small"
                    class="given"
                    :aria-label="`${asked(c.name)!.label}, of ${c.name}`"
                    @update:model-value="(v: string) => give(c.name, v)">
                    <template #prepend>{{ asked(c.name)!.label }}</template>
                  </ElInput>
                </td>
                <td>
                  <ElInput
                    v-model="names[c.name]"
                    size="small"
                    :placeholder="c.name"
                    :disabled="treatmentOf(saidOf(entry, c.name)) === 'leave out'"
                    :aria-label="`New name of ${c.name}`"
                    @change="(name: string) => change(c.name, { name: name.trim() })" />
                </td>
                <td>
                  <OneOf
                    :model-value="typeOf(saidOf(entry, c.name))"
                    class="type"
                    :placeholder="c.type"
                    :disabled="treatmentOf(saidOf(entry, c.name)) !== 'as it is'"
                    :aria-label="`Type of ${c.name}`"
                    @change="(type: string) => change(c.name, { type: type ?? '' })"
                    free
                    :words="types" />
                </td>
              </tr>
              <tr v-if="c.type === 'json' || (c.type === 'text' && taken[c.name]?.length)" class="paths">
                <td colspan="4">
                  <div v-for="(p, i) in taken[c.name]" :key="i" class="path">
                    <ElInput
                      v-model="p[1]"
                      size="small"
                      class="mono"
                      placeholder="$.postal.code"
                      :aria-label="`Path ${i + 1} into ${c.name}`"
                      @change="take(c.name)" />
                    <ElInput
                      v-model="p[0]"
                      size="small"
                      placeholder="its column"
                      :aria-label="`Column of path ${i + 1} into ${c.name}`"
                      @change="take(c.name)" />
                    <OneOf
                      v-model="p[2]"
                      class="type"
                      placeholder="text"
                      :aria-label="`Type of path ${i + 1} into ${c.name}`"
                      @change="take(c.name)"
                      free
                      :words="types" />
                    <ElButton
                      size="small"
                      text
                      :aria-label="`Take path ${i + 1} into ${c.name} away`"
                      @click="(taken[c.name]!.splice(i, 1), take(c.name))"
                      >✕</ElButton
                    >
                  </div>
                  <ElButton size="small" text @click="(taken[c.name] ??= []).push(['', '', ''])"
                    >Take a value out of {{ c.name }}…</ElButton
                  >
                  <ElCheckbox
                    v-if="takeOf(saidOf(entry, c.name)).length"
                    size="small"
                    :model-value="(saidOf(entry, c.name) as Said).keep !== false"
                    @change="(on) => change(c.name, { keep: on ? undefined : false })">
                    bring {{ c.name }} itself, too
                  </ElCheckbox>
                </td>
              </tr>
            </tbody>
            <tbody>
              <tr v-for="(c, i) in made" :key="i">
                <td colspan="2">
                  <ElInput
                    v-model="c.value"
                    size="small"
                    class="mono"
                    placeholder="amount * 2, or 'north'"
                    :aria-label="`Expression ${i + 1}`"
                    @change="make" />
                </td>
                <td>
                  <ElInput
                    v-model="c.name"
                    size="small"
                    placeholder="its name"
                    :aria-label="`Name of expression ${i + 1}`"
                    @change="make" />
                </td>
                <td class="path">
                  <OneOf
                    v-model="c.type"
                    class="type"
                    placeholder="its own type"
                    :aria-label="`Type of expression ${i + 1}`"
                    @change="make"
                    free
                    :words="types" />
                  <ElButton
                    size="small"
                    text
                    :aria-label="`Take expression ${i + 1} away`"
                    @click="(made.splice(i, 1), make())"
                    >✕</ElButton
                  >
                </td>
              </tr>
              <tr>
                <td colspan="4">
                  <ElButton size="small" text @click="made.push({ name: '', value: '' })"
                    >Add a column made of others, or a constant…</ElButton
                  >
                </td>
              </tr>
            </tbody>
          </table>
        </div>
        <label class="where"
          >Only rows of which this holds
          <ElInput
            v-model="where"
            type="textarea"
            :rows="2"
            input-style="font-family: var(--mono); font-size: 12px"
            :placeholder="example"
            spellcheck="false"
            aria-label="Filter" />
        </label>
        <div class="offered" aria-label="Columns and operators to use">
          <button
            v-for="word in offered"
            :key="word"
            type="button"
            class="word mono"
            @click="where = where ? `${where} ${word}` : word">
            {{ word }}
          </button>
        </div>
        <TroubleBox :trouble="wrong" />
      </section>
      <section aria-label="Preview" class="preview" aria-live="polite" role="region" tabindex="0">
        <p v-if="!preview && !wrong" class="quiet">Looking at rows of the table…</p>
        <p v-if="stay" class="quiet">{{ stay }}</p>
        <PreviewRows v-if="preview" :class="{ old: wrong }" :preview="preview" />
      </section>
    </div>
    <template #footer><ElButton type="primary" @click="shown = false">Done</ElButton></template>
  </ElDialog>
</template>

<style scoped>
.both {
  display: grid;
  grid-template-columns: minmax(0, 600px) minmax(0, 1fr);
  gap: 20px;
  font-size: 13px;
}
.columns {
  max-height: 66vh;
  display: flex;
  flex-direction: column;
}
.list {
  flex: 1;
  overflow: auto;
  min-height: 160px;
}
.pick {
  width: 138px;
}
.given {
  width: 138px;
  margin-top: 3px;
}
.given :deep(.el-input-group__prepend) {
  padding: 0 6px;
}
.type {
  width: 124px;
}
.native {
  font-size: 11px;
}
.list td {
  vertical-align: top;
}
.mark {
  display: flex;
  gap: 8px;
  align-items: center;
  margin-bottom: 8px;
}
.mark .el-select {
  width: 200px;
}
.path {
  display: flex;
  gap: 4px;
  margin-bottom: 3px;
}
.path .type {
  flex: 0 0 112px;
}
.paths td {
  border-top: 0;
  padding-top: 0;
}
.preview {
  max-height: 66vh;
  overflow: auto;
}
.where {
  display: block;
  margin-top: 10px;
}
.offered {
  display: flex;
  flex-wrap: wrap;
  gap: 4px;
  margin: 6px 0;
  max-height: 84px;
  overflow: auto;
}
.word {
  border: 1px solid var(--line);
  background: none;
  color: var(--ink-2);
  border-radius: 3px;
  font-size: 11px;
  padding: 1px 6px;
  cursor: pointer;
}
.word:hover {
  color: var(--ink);
  border-color: var(--act);
}
.old {
  opacity: 0.55;
}
@media (max-width: 900px) {
  .both {
    grid-template-columns: 1fr;
  }
}
</style>
