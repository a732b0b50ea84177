<script setup lang="ts">
import {
  ElButton,
  ElDatePicker,
  ElDialog,
  ElForm,
  ElFormItem,
  ElInput,
  ElOption,
  ElRadioButton,
  ElRadioGroup,
  ElSelect,
} from 'element-plus'
import { computed, defineAsyncComponent, onUnmounted, ref, watch } from 'vue'
import { api, ask as call, sessionLost, trouble, type Answered, type Schemas, type Trouble } from '../api'
import { useActs } from '../act'
import { useLive } from '../live'
import AnswerRows from '../parts/AnswerRows.vue'
import TroubleBox from '../parts/TroubleBox.vue'
import When from '../parts/When.vue'
import { useSession } from '../session'
import { at, count, span, useNow } from '../words'

// Warehouses are asked in SQL, while feeds keep them. A question that was left is found again in this browser.
const QuestionEditor = defineAsyncComponent(() => import('../parts/QuestionEditor.vue'))
const AnswerChart = defineAsyncComponent(() => import('../parts/AnswerChart.vue'))

const session = useSession()
const now = useNow()
const most = 100_000
const askable = ref<Schemas['Askable'][]>()
const warehouse = ref('')
const text = ref(localStorage.getItem('question') ?? '')
const asOf = ref<Date | null>(null)
const mark = ref('')
const marks = ref<Schemas['Mark'][]>([])
const answer = ref<Answered>()
const asked = ref<{ sql: string; seconds: number; asOf?: string; mark?: string }>()
const waiting = ref(false)
const refused = ref<Trouble>()
const view = ref<'rows' | 'chart'>('rows')
const history = ref<Schemas['Question'][]>([])
const saved = ref<Schemas['SavedQuestion'][]>([])
const only = ref('')
const editor = ref<{ insert: (what: string) => void }>()
let running: AbortController | undefined

async function look() {
  const { data, trouble: t } = await call(api.GET('/api/v1/askable'))
  askable.value = data ?? []
  refused.value = t
  warehouse.value ||= data?.[0]?.warehouse ?? ''
}
async function lookBack() {
  const [h, s] = await Promise.all([
    call(api.GET('/api/v1/questions', { params: { query: { by: session.name, limit: 30 } } })),
    call(api.GET('/api/v1/saved-questions')),
  ])
  if (h.data) history.value = h.data.filter((q) => q.way === 'api')
  if (s.data) saved.value = s.data
}
void look()
useLive(lookBack, () => false)
onUnmounted(() => running?.abort())
watch(text, (q) => localStorage.setItem('question', q))

const here = computed(() => askable.value?.find((w) => w.warehouse === warehouse.value))
// In PostgreSQL histories are seen as of a moment by their functions.
const dated = computed(() => here.value?.kind !== 'postgresql')
const moment = computed(() => (dated.value ? asOf.value?.toISOString() : undefined))
// What a lake keeps under names can be asked, too.
watch(here, async (w) => {
  mark.value = ''
  marks.value = []
  if (w?.kind !== 'iceberg') return
  const { data } = await call(api.GET('/api/v1/warehouses/{name}/marks', { params: { path: { name: w.warehouse } } }))
  if (data && warehouse.value === w.warehouse) marks.value = data
})
const names = computed(() => {
  const all: Record<string, Record<string, string[]>> = {}
  for (const t of here.value?.tables ?? []) (all[t.schema] ??= {})[t.table] = t.columns.map((c) => c.name)
  return all
})
const tables = computed(() => {
  const part = only.value.trim().toLowerCase()
  return (here.value?.tables ?? []).filter(
    (t) => !part || `${t.schema}.${t.table} ${t.columns.map((c) => c.name).join(' ')}`.toLowerCase().includes(part),
  )
})
const word = (name: string) => (/^[a-z_][a-z0-9_]*$/.test(name) ? name : `"${name.replaceAll('"', '""')}"`)

const body = (format: 'rows' | 'csv' | 'parquet', rows?: number) => ({
  sql: text.value,
  format,
  rows,
  as_of: moment.value,
  mark: mark.value || undefined,
})

/** Sends the question; the answer comes as the format says. */
async function send(format: 'rows' | 'csv' | 'parquet', rows?: number): Promise<Response | undefined> {
  refused.value = undefined
  running = new AbortController()
  waiting.value = true
  try {
    const response = await fetch(`/api/v1/warehouses/${encodeURIComponent(warehouse.value)}/questions`, {
      method: 'POST',
      headers: { 'Content-Type': 'application/json' },
      body: JSON.stringify(body(format, rows)),
      signal: running.signal,
    })
    if (response.ok) return response
    if (response.status === 401) sessionLost()
    refused.value = trouble(await response.json())
  } catch {
    refused.value = running.signal.aborted
      ? { what: 'The question was stopped.', remedy: 'Ask again whenever you like.' }
      : { what: 'The answer broke off, or the service does not answer.', remedy: 'Try again in a moment.' }
  }
}

async function ask() {
  if (!text.value.trim() || waiting.value) return
  const sql = text.value
  const began = performance.now()
  try {
    const response = await send('rows', most)
    if (response) {
      answer.value = (await response.json()) as Answered
      asked.value = { sql, seconds: (performance.now() - began) / 1000, asOf: moment.value, mark: mark.value }
    }
  } catch {
    refused.value = { what: 'The answer broke off.', remedy: 'Why is among your questions below.' }
  } finally {
    waiting.value = false
    void lookBack()
  }
}

async function take(format: 'csv' | 'parquet') {
  if (waiting.value) return
  try {
    const response = await send(format)
    if (response) {
      const link = document.createElement('a')
      link.href = URL.createObjectURL(await response.blob())
      link.download = `answer.${format}`
      link.click()
      URL.revokeObjectURL(link.href)
    }
  } catch {
    refused.value = {
      what: 'The answer broke off, and nothing was kept of it.',
      remedy: 'Ask for less, or try again.',
    }
  } finally {
    waiting.value = false
    void lookBack()
  }
}
const stop = () => running?.abort()

const naming = ref(false)
const name = ref('')
const { busy, refused: notKept, act } = useActs(lookBack)
async function keep() {
  const { trouble: t } = await act('save', () =>
    call(
      api.PUT('/api/v1/saved-questions/{name}', {
        params: { path: { name: name.value } },
        body: { warehouse: warehouse.value, sql: text.value },
      }),
    ),
  )
  if (!t) naming.value = false
}
const forget = (q: Schemas['SavedQuestion']) =>
  act(
    `forget ${q.name}`,
    () => call(api.DELETE('/api/v1/saved-questions/{name}', { params: { path: { name: q.name } } })),
    {
      title: 'Remove the question',
      text: `Remove the question ${q.name} for everybody?`,
      yes: 'Remove',
    },
  )
function again(q: { warehouse: string; sql: string }) {
  if (askable.value?.some((w) => w.warehouse === q.warehouse)) warehouse.value = q.warehouse
  text.value = q.sql
  window.scrollTo({ top: 0 })
}
const line = (sql: string) => sql.replace(/\s+/g, ' ').trim()
</script>

<template>
  <div class="page">
    <div class="head">
      <div>
        <h1>Ask</h1>
        <div class="quiet">what was replicated, in SQL; each answer is one cut, while feeds go on</div>
      </div>
    </div>
    <div v-if="askable && !askable.length" class="sheet pad">
      <p>You may not ask a warehouse yet.</p>
      <p class="quiet">
        An administrator lets you: <code>noemata users change {{ session.name }} --ask WAREHOUSE</code>. Whoever
        administers may ask all.
      </p>
    </div>
    <div v-else class="two">
      <div class="main">
        <section class="sheet" aria-label="The question">
          <header>
            <ElSelect v-model="warehouse" size="small" style="width: 150px" aria-label="Warehouse">
              <ElOption v-for="w in askable ?? []" :key="w.warehouse" :value="w.warehouse" :label="w.warehouse" />
            </ElSelect>
            <label v-if="dated" class="quiet">
              histories as of
              <ElDatePicker
                v-model="asOf"
                type="datetime"
                size="small"
                placeholder="now"
                aria-label="Histories as of" />
            </label>
            <label v-if="marks.length" class="quiet">
              of
              <ElSelect
                v-model="mark"
                :empty-values="[undefined]"
                size="small"
                style="width: 160px"
                aria-label="Mark">
                <ElOption value="" label="what is there now" />
                <ElOption v-for="m in marks" :key="m.name" :value="m.name" :label="m.name" />
              </ElSelect>
            </label>
            <span class="grow"></span>
            <ElButton v-if="waiting" size="small" @click="stop">Stop</ElButton>
            <ElButton
              size="small"
              :disabled="!text.trim()"
              @click="((name = ''), (notKept = undefined), (naming = true))">
              Save…
            </ElButton>
            <ElButton size="small" type="primary" :loading="waiting" :disabled="!text.trim()" @click="ask">
              Ask <span class="key">Ctrl ↵</span>
            </ElButton>
          </header>
          <QuestionEditor ref="editor" v-model="text" :names="names" @ask="ask" />
        </section>
        <TroubleBox :trouble="refused" />
        <section v-if="answer && asked" class="sheet" aria-label="The answer" :aria-busy="waiting">
          <header>
            <h2>{{ count(answer.rows.length) }} {{ answer.rows.length === 1 ? 'row' : 'rows' }}</h2>
            <span v-if="answer.more" class="quiet">and more: the files have all</span>
            <span class="quiet"
              >in {{ span(asked.seconds) }}<template v-if="asked.asOf">, as of {{ at(asked.asOf) }}</template
              ><template v-if="asked.mark">, of {{ asked.mark }}</template></span
            >
            <span class="grow"></span>
            <ElRadioGroup v-model="view" size="small" aria-label="View">
              <ElRadioButton value="rows">Rows</ElRadioButton>
              <ElRadioButton value="chart">Chart</ElRadioButton>
            </ElRadioGroup>
            <ElButton size="small" :disabled="waiting" @click="take('csv')">CSV</ElButton>
            <ElButton size="small" :disabled="waiting" @click="take('parquet')">Parquet</ElButton>
          </header>
          <p v-if="!answer.rows.length" class="pad quiet">Nothing fits the question.</p>
          <AnswerRows v-else-if="view === 'rows'" :answer="answer" />
          <AnswerChart v-else :answer="answer" />
        </section>
        <section v-if="saved.length" class="sheet" aria-label="Saved questions">
          <header>
            <h2>Saved</h2>
            <span class="quiet">shared with all who may ask the warehouse</span>
          </header>
          <table class="rows">
            <tbody>
              <tr v-for="q in saved" :key="q.name">
                <td class="name">
                  <button type="button" class="link" @click="again(q)">{{ q.name }}</button>
                </td>
                <td class="quiet">{{ q.warehouse }}</td>
                <td class="said mono">{{ line(q.sql) }}</td>
                <td class="quiet nowrap">{{ q.by }}</td>
                <td class="n">
                  <ElButton
                    v-if="q.by === session.name || session.role === 'administer'"
                    size="small"
                    text
                    :disabled="!!busy"
                    @click="forget(q)"
                    >Remove…</ElButton
                  >
                </td>
              </tr>
            </tbody>
          </table>
        </section>
        <section v-if="history.length" class="sheet" aria-label="Your questions">
          <header>
            <h2>Yours</h2>
            <span class="quiet">the last ones that were asked here</span>
          </header>
          <table class="rows">
            <tbody>
              <tr v-for="q in history" :key="q.id">
                <td class="nowrap"><When :time="q.at" :now="now" /></td>
                <td class="said mono">
                  <button type="button" class="link" @click="again(q)">{{ line(q.sql) }}</button>
                  <div v-if="q.problem" class="bad">{{ q.problem }}</div>
                </td>
                <td class="n nowrap">{{ q.state === 'done' ? `${count(q.rows)} rows` : q.state }}</td>
              </tr>
            </tbody>
          </table>
        </section>
      </div>
      <aside class="sheet side" aria-label="What can be asked">
        <header>
          <ElInput v-model="only" size="small" clearable placeholder="Find tables and columns" aria-label="Find" />
        </header>
        <p v-if="here?.problem" class="pad bad">{{ here.problem }}</p>
        <p v-else-if="here && !tables.length" class="pad quiet">
          {{ only ? 'No table or column is called so.' : 'There is no table yet.' }}
        </p>
        <div class="tree">
          <details v-for="t in tables" :key="`${t.schema}.${t.table}`" :open="!!only.trim() && tables.length < 8">
            <summary>
              <span class="quiet">{{ t.schema }}.</span>{{ t.table }}
            </summary>
            <p v-if="t.comment" class="quiet">{{ t.comment }}</p>
            <button type="button" class="link" @click="editor?.insert(`${word(t.schema)}.${word(t.table)}`)">
              Put it into the question
            </button>
            <ul>
              <li v-for="c in t.columns" :key="c.name" :title="c.comment">
                <button type="button" class="link" @click="editor?.insert(word(c.name))">{{ c.name }}</button>
                <span class="quiet">{{ c.type.toLowerCase() }}</span>
              </li>
            </ul>
          </details>
        </div>
      </aside>
    </div>
    <ElDialog v-model="naming" title="Save the question" width="460">
      <ElForm label-position="top" @submit.prevent="keep">
        <ElFormItem label="Name"><ElInput v-model="name" placeholder="loans by branch" /></ElFormItem>
        <TroubleBox :trouble="notKept" />
      </ElForm>
      <template #footer>
        <ElButton @click="naming = false">Cancel</ElButton>
        <ElButton type="primary" :disabled="!name.trim()" :loading="busy === 'save'" @click="keep">Save</ElButton>
      </template>
    </ElDialog>
  </div>
</template>

<style scoped>
.two {
  display: grid;
  grid-template-columns: minmax(0, 1fr) 270px;
  gap: 16px;
  align-items: start;
}
.main > * + * {
  margin-top: 16px;
}
.side {
  position: sticky;
  top: 12px;
}
.tree {
  max-height: calc(100vh - 190px);
  overflow: auto;
  padding: 4px 0 8px;
}
summary {
  cursor: pointer;
  padding: 4px 12px;
}
details[open] > summary {
  font-weight: 600;
}
details > p,
details > .link {
  margin: 0 12px 4px 26px;
}
ul {
  list-style: none;
  margin: 2px 0 8px;
  padding: 0 12px 0 26px;
}
li {
  display: flex;
  justify-content: space-between;
  gap: 10px;
  font-size: 12px;
}
.link {
  background: none;
  border: 0;
  padding: 0;
  font: inherit;
  color: var(--act);
  cursor: pointer;
  text-align: left;
  overflow-wrap: anywhere;
}
.link:hover {
  text-decoration: underline;
}
.name {
  min-width: 110px;
}
.said {
  max-width: 0;
  width: 100%;
  overflow-wrap: anywhere;
}
.bad {
  color: var(--bad);
  font-family: var(--el-font-family);
}
.key {
  opacity: 0.75;
  font-size: 11px;
  margin-left: 6px;
}
@media (max-width: 900px) {
  .two {
    grid-template-columns: minmax(0, 1fr);
  }
  .side {
    position: static;
  }
}
</style>
