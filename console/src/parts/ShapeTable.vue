<script setup lang="ts">
import { ElButton, ElDialog, ElInput, ElOption, ElSelect } from 'element-plus'
import { computed, ref, watch } from 'vue'
import { api, ask, type Preview, type Schemas, type Trouble } from '../api'
import { nameOf, saidOf, setColumn, setOfTable, tablesOf, type Treatment, treatmentOf, typeOf } from '../feedfile'
import { count } from '../words'
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
const treatments: Treatment[] = ['as it is', 'leave out', 'hash', 'first characters', 'last characters', 'year', 'null']

watch(shown, async (now) => {
  if (!now || !entry.value) return
  described.value = preview.value = wrong.value = undefined
  where.value = entry.value.where
  const { data, trouble } = await ask(api.GET('/api/v1/sources/{name}/table', { params: { path: { name: props.source }, query: { table: entry.value.table } } }))
  for (const c of data?.columns ?? []) names.value[c.name] = nameOf(saidOf(entry.value, c.name))
  described.value = data
  wrong.value = trouble
  if (data) void look()
})

/** The rows are looked at again a moment after the last change; only the newest answer counts. */
let asked = 0
let timer = 0
async function look() {
  const mine = ++asked
  const { data, trouble } = await ask(api.POST('/api/v1/previews', { body: { file: file.value, table: entry.value!.table, rows: 6 } }))
  if (mine !== asked) return
  preview.value = data ?? preview.value
  wrong.value = trouble
}
watch(file, () => {
  clearTimeout(timer)
  if (shown.value) timer = window.setTimeout(look, 400)
})
watch(where, (text) => {
  if (entry.value && text.trim() !== entry.value.where) file.value = setOfTable(file.value, props.index, 'where', text.trim())
})

function change(column: string, to: { treatment?: Treatment; name?: string; type?: string }) {
  const of = saidOf(entry.value, column)
  file.value = setColumn(file.value, props.index, column, { treatment: treatmentOf(of), name: nameOf(of), type: typeOf(of), ...to })
}

/** How many rows of the table stay, by what stays of those looked at. */
const stay = computed(() => {
  const p = preview.value
  const rows = described.value?.rows ?? -1
  if (!p?.read || !p.filtered || rows < 0) return ''
  return `By this, about ${count(Math.round((rows * (p.read - p.filtered)) / p.read))} of ${count(rows)} rows stay.`
})
const offered = computed(() => [...(described.value?.columns?.map((c) => c.name) ?? []), '==', '!=', '<', '&&', '||', '!', '.startsWith("")', '.contains("")', '.matches("")', 'timestamp("2026-01-01T00:00:00Z")', '== null'])
</script>

<template>
  <ElDialog v-model="shown" :title="`Shape ${entry?.table ?? ''}`" width="min(1180px, 96vw)" align-center append-to-body>
    <div class="both">
      <section aria-label="Columns" class="columns">
        <div class="scroll list" tabindex="0" role="region" aria-label="Columns and what becomes of them">
          <table v-if="described" class="rows tight">
            <thead><tr><th scope="col">Column</th><th scope="col">Type</th><th scope="col">Arrives</th><th scope="col">As</th></tr></thead>
            <tbody>
              <tr v-for="c in described.columns" :key="c.name">
                <td class="mono">{{ c.name }}<span v-if="described.key?.includes(c.name)" class="quiet"> key</span></td>
                <td class="mono quiet">{{ c.native }}</td>
                <td>
                  <ElSelect :model-value="treatmentOf(saidOf(entry, c.name))" size="small" class="pick" :aria-label="`What becomes of ${c.name}`" @change="(t: Treatment) => change(c.name, { treatment: t })">
                    <ElOption v-for="t in treatments" :key="t" :label="t" :value="t" />
                  </ElSelect>
                </td>
                <td><ElInput v-model="names[c.name]" size="small" :placeholder="c.name" :disabled="treatmentOf(saidOf(entry, c.name)) === 'leave out'" :aria-label="`New name of ${c.name}`" @change="(name: string) => change(c.name, { name: name.trim() })" /></td>
              </tr>
            </tbody>
          </table>
        </div>
        <label class="where">Only rows of which this holds
          <ElInput v-model="where" type="textarea" :rows="2" input-style="font-family: var(--mono); font-size: 12px" :placeholder="example" spellcheck="false" aria-label="Filter" />
        </label>
        <div class="offered" aria-label="Columns and operators to use">
          <button v-for="word in offered" :key="word" type="button" class="word mono" @click="where = where ? `${where} ${word}` : word">{{ word }}</button>
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
.both { display: grid; grid-template-columns: minmax(0, 540px) minmax(0, 1fr); gap: 20px; font-size: 13px; }
.columns { max-height: 66vh; display: flex; flex-direction: column; }
.list { flex: 1; overflow: auto; min-height: 160px; }
.pick { width: 138px; }
.preview { max-height: 66vh; overflow: auto; }
.where { display: block; margin-top: 10px; }
.offered { display: flex; flex-wrap: wrap; gap: 4px; margin: 6px 0; max-height: 84px; overflow: auto; }
.word { border: 1px solid var(--line); background: none; color: var(--ink-2); border-radius: 3px; font-size: 11px; padding: 1px 6px; cursor: pointer; }
.word:hover { color: var(--ink); border-color: var(--act); }
.old { opacity: 0.55; }
@media (max-width: 900px) { .both { grid-template-columns: 1fr; } }
</style>
