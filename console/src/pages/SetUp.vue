<script setup lang="ts">
import { ElButton, ElInput, ElOption, ElSelect } from 'element-plus'
import { computed, onMounted, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import { useActs } from '../act'
import { api, ask, type Applied, type Connection, type Proposed, type Trouble } from '../api'
import {
  addEntry,
  addPattern,
  endsOf,
  patternOf,
  scheduleOf,
  type Schedule,
  setOfFeed,
  setOfTable,
  setOfTables,
  type TableEntry,
  tablesOf,
  withTables,
} from '../feedfile'
import { useLive } from '../live'
import ChangesList from '../parts/ChangesList.vue'
import ChooseTables from '../parts/ChooseTables.vue'
import ConnectionForm from '../parts/ConnectionForm.vue'
import FeedSettings from '../parts/FeedSettings.vue'
import FileText from '../parts/FileText.vue'
import FindingsList from '../parts/FindingsList.vue'
import OneOf from '../parts/OneOf.vue'
import ShapeTable from '../parts/ShapeTable.vue'
import TroubleBox from '../parts/TroubleBox.vue'
import { at, count, plural } from '../words'

// From a connection to a running feed, step by step, and later the same steps to change it. All that is chosen is
// in one feed file, as it can be written by hand; leaving half-way keeps it.
const props = defineProps<{ feed?: string }>()
const steps = ['Connect', 'Choose', 'Shape', 'Check', props.feed ? 'Apply' : 'Start'] as const
const blank = () => ({
  step: 0,
  source: '',
  warehouse: '',
  name: '',
  chosen: [] as string[],
  later: [] as string[],
  file: '',
  of: '',
  at: '',
  was: '',
  proposed: undefined as Proposed | undefined,
})
const draft = ref(blank())
const kept = ref('') // when the draft was made that was found
const stored = props.feed ? `change ${props.feed}` : 'set-up'

onMounted(async () => {
  try {
    const found = JSON.parse(localStorage.getItem(stored) ?? 'null') as ReturnType<typeof blank> | null
    if (found?.source) {
      draft.value = { ...blank(), ...found }
      if (!props.feed) kept.value = found.at
    }
  } catch {
    localStorage.removeItem(stored)
  }
  if (props.feed) await read(props.feed)
  if (draft.value.step === 3) void check()
})

/** Whether the feed has been changed since the draft of its change was begun. */
const stale = ref(false)

/** A change that begins with the feed's file as it is. */
function begun(feed: string, file: string) {
  const tables = tablesOf(file)
  const later = wholeSchemas(tables)
  const chosen = tables.filter((t) => !t.pattern && !t.query).map((t) => t.table)
  return { ...blank(), step: 2, ...endsOf(file), name: feed, chosen, later, file, was: file }
}

/** The schemas all of whose tables come, also those that are made later. */
const wholeSchemas = (tables: TableEntry[]) =>
  tables.filter((t) => t.pattern && t.table === patternOf(t.table.slice(0, -2))).map((t) => t.table.slice(0, -2))

/** Reads the feed's file, and begins with it unless there is a draft in which something is changed. */
async function read(feed: string) {
  const { data } = await act('read', () =>
    ask(api.GET('/api/v1/feeds/{name}/file', { params: { path: { name: feed } } })),
  )
  if (!data) return
  const said = (d: ReturnType<typeof blank>) => JSON.stringify([d.file, d.warehouse, d.chosen, d.later])
  const changed = draft.value.was !== '' && said(draft.value) !== said(begun(feed, draft.value.was))
  stale.value = changed && draft.value.was !== data.file
  if (changed) kept.value = draft.value.at
  else draft.value = begun(feed, data.file)
}

watch(draft, (d) => d.source && keep({ ...d, at: new Date().toISOString() }), { deep: true })

/** A browser keeps some megabytes: the reasons of thousands of proposals may be too many. */
function keep(d: ReturnType<typeof blank>) {
  try {
    localStorage.setItem(stored, JSON.stringify(d))
  } catch {
    if (d.proposed) keep({ ...d, proposed: undefined })
  }
}

function anew() {
  localStorage.removeItem(stored)
  kept.value = ''
  draft.value = blank()
  applied.value = undefined
  void lists()
  if (props.feed) void read(props.feed)
}

// Connect
const sources = ref<Connection[]>()
const warehouses = ref<Connection[]>()
const kinds = ref<{ sources: string[]; warehouses: string[] }>({ sources: [], warehouses: [] })
const adding = ref<'sources' | 'warehouses'>()
const unlisted = ref<Trouble>()
const { busy, refused, act } = useActs()

const ends = computed(() => [
  {
    end: 'source' as const,
    side: 'sources' as const,
    title: 'From',
    label: 'Source',
    means: 'The database that is read.',
    list: sources.value,
  },
  {
    end: 'warehouse' as const,
    side: 'warehouses' as const,
    title: 'To',
    label: 'Warehouse',
    means: 'The database that is written.',
    list: warehouses.value,
  },
])

async function lists() {
  const [from, to, about] = await Promise.all([
    ask(api.GET('/api/v1/sources')),
    ask(api.GET('/api/v1/warehouses')),
    ask(api.GET('/api/v1/about')),
  ])
  sources.value = from.data ?? undefined
  warehouses.value = to.data ?? undefined
  if (about.data) kinds.value = about.data
  unlisted.value = from.trouble ?? to.trouble
  draft.value.source ||= from.data?.length === 1 ? from.data[0]!.name : ''
  draft.value.warehouse ||= to.data?.length === 1 ? to.data[0]!.name : ''
}
useLive(lists, (event) => event.kind === 'feed' && draft.value.step === 0)

async function added(side: 'sources' | 'warehouses', name: string) {
  await act('test', () => ask(api.POST(`/api/v1/${side}/{name}/test`, { params: { path: { name } } })))
  await lists()
  if (side === 'sources') draft.value.source = name
  else draft.value.warehouse = name
}
const entering = computed({
  get: () => adding.value !== undefined,
  set: (on) => (adding.value = on ? adding.value : undefined),
})

// Choose, and have proposed
const proposed = computed(() => draft.value.proposed)

/** Has tables proposed that were chosen and are not in the file, and takes those out that were chosen no more: what was
 * shaped stays. The feed's ends and its name make another file, unless it is one that is changed. */
async function propose(): Promise<boolean> {
  const d = draft.value
  const of = JSON.stringify([d.source, d.warehouse, d.name])
  if (!props.feed && d.of !== of) Object.assign(d, { file: '', proposed: undefined })
  const before = d.file ? tablesOf(d.file) : []
  const chosen = new Set(d.chosen)
  const had = new Set(before.map((t) => t.table))
  const fresh = d.chosen.filter((table) => !had.has(table))
  const patterns = d.later.filter((schema) => !had.has(patternOf(schema)))
  const wholeSchema = (table: string) =>
    table === patternOf(table.slice(0, -2)) && !d.later.includes(table.slice(0, -2))
  const gone = new Set(
    before.filter((t) => !t.query && (t.pattern ? wholeSchema(t.table) : !chosen.has(t.table))).map((t) => t.table),
  )
  let { file } = d
  if (fresh.length || !file) {
    const { data } = await act('propose', () =>
      ask(
        api.POST('/api/v1/proposals', {
          body: {
            feed: props.feed ? undefined : d.name || undefined,
            source: d.source,
            warehouse: d.warehouse,
            tables: fresh,
          },
        }),
      ),
    )
    if (!data) return false
    file = file ? withTables(file, data.file, gone) : data.file
    d.proposed = { ...data, tables: [...(d.proposed?.tables ?? []), ...data.tables] }
  } else if (gone.size) file = withTables(file, '', gone)
  const all = patterns.length
    ? await act('propose', () =>
        ask(api.GET('/api/v1/sources/{name}/tables', { params: { path: { name: d.source } } })),
      )
    : {}
  if (refused.value) return false
  const log = tablesOf(file).some((t) => t.find === 'log')
  for (const schema of patterns) {
    const out = (all.data ?? [])
      .filter((t) => t.schema === schema && !t.view && !chosen.has(t.table))
      .map((t) => t.table)
    file = addPattern(file, patternOf(schema), out, log ? 'log' : 'whole', log ? 'latest' : 'replace')
  }
  d.file = props.feed ? setOfFeed(file, { warehouse: d.warehouse }) : file
  d.of = of
  return true
}

// Shape
const tables = computed(() => tablesOf(draft.value.file))
const about = computed(() => new Map((proposed.value?.tables ?? []).map((t) => [t.table, t])))
const shaping = ref(false)
const shaped = ref(0)
const setting = ref(false)
const settled = ref<number | 'feed'>('feed')
function settings(of: number | 'feed') {
  settled.value = of
  setting.value = true
}
function add(entry: object) {
  const [file, index] = addEntry(draft.value.file, entry)
  draft.value.file = file
  settings(index)
}
watch(setting, (open) => {
  if (!open) draft.value.later = wholeSchemas(tables.value)
})
const finds = ['log', 'watermark', 'compare', 'whole']
const keeps = ['latest', 'soft-delete', 'history', 'ledger', 'replace']
const search = ref('')
const found = computed(() =>
  tables.value.filter((t) => t.table.toLowerCase().includes(search.value.trim().toLowerCase())),
)
const mostShown = 100
const setAll = (key: string, value: string) =>
  (draft.value.file = setOfTables(
    draft.value.file,
    found.value.map((t) => t.index),
    key,
    value,
  ))
const set = (index: number, key: string, value: string) =>
  (draft.value.file = setOfTable(draft.value.file, index, key, value))
/** What a table's entry says of its columns, a line each. */
function columnsSaid(t: TableEntry): string[] {
  const word = (v: unknown) => (typeof v === 'object' && v !== null ? Object.keys(v).join(', ') : String(v))
  const of = (said: unknown) =>
    said === 'drop'
      ? 'left out'
      : Object.entries(said as object)
          .map(([k, v]) => `${k} ${word(v)}`)
          .join(', ')
  return [
    ...Object.entries(t.columns).map(([name, said]) => `${name}: ${of(said)}`),
    ...Object.entries(t.computed).map(([name, c]) => `${name} = ${c.value}`),
  ]
}

// Check
const applied = ref<Applied>()
async function check() {
  applied.value = undefined
  const { data } = await act('check', () =>
    ask(api.POST('/api/v1/feed-files', { body: { file: draft.value.file, dry_run: true } })),
  )
  applied.value = data
}
const blocked = computed(() => applied.value?.findings.some((f) => f.level === 'blocker') ?? true)

// Start
const schedule = computed({
  get: () => scheduleOf(draft.value.file),
  set: (s: Schedule) => (draft.value.file = setOfFeed(draft.value.file, s)),
})
const setSchedule = (part: Partial<Schedule>) => (schedule.value = { ...schedule.value, ...part })
const follows = computed(() => tables.value.some((t) => t.find === 'log'))
const others = computed(() => tables.value.some((t) => t.find !== 'log'))
const router = useRouter()

async function start(now: boolean) {
  const { data } = await act('apply', () => ask(api.POST('/api/v1/feed-files', { body: { file: draft.value.file } })))
  if (!data?.applied) return
  if (now)
    await act('start', () => ask(api.POST('/api/v1/feeds/{name}/start', { params: { path: { name: data.feed } } })))
  if (refused.value) return
  localStorage.removeItem(stored)
  await router.push(`/feeds/${data.feed}`)
}

const ready = computed(() => {
  const d = draft.value
  return [
    d.source !== '' && d.warehouse !== '',
    d.chosen.length > 0 || d.later.length > 0,
    tables.value.length > 0,
    !blocked.value,
    true,
  ][d.step]
})
async function next() {
  if (draft.value.step === 1 && !(await propose())) return
  draft.value.step++
  if (draft.value.step === 3) await check()
}
function go(to: number) {
  refused.value = undefined
  draft.value.step = to
  if (to === 3) void check()
}
</script>

<template>
  <div class="page">
    <div class="head">
      <div>
        <div v-if="feed" class="crumb">
          <RouterLink to="/">Overview</RouterLink> / <RouterLink :to="`/feeds/${feed}`">{{ feed }}</RouterLink> /
          change
        </div>
        <h1>{{ feed ? `Change ${feed}` : 'Set up a feed' }}</h1>
        <div class="quiet">
          {{
            draft.source && draft.warehouse
              ? `${draft.source} → ${draft.warehouse}`
              : 'From a source into a warehouse, kept there from then on'
          }}
        </div>
      </div>
      <span class="grow"></span>
      <span v-if="kept" class="quiet">Your draft of {{ at(kept) }}</span>
      <ElButton v-if="draft.source" text @click="anew">{{
        feed ? 'Begin with the feed as it is' : 'Start anew'
      }}</ElButton>
    </div>
    <TroubleBox
      v-if="stale"
      warn
      :trouble="{
        what: 'The feed was changed after your draft was begun.',
        remedy: 'The step Check tells what your draft would make of it; or begin with the feed as it is.',
      }" />
    <ol class="steps" aria-label="Steps">
      <li v-for="(s, i) in steps" :key="s" :aria-current="draft.step === i ? 'step' : undefined">
        <button type="button" :disabled="i > draft.step" @click="go(i)">
          <span class="no">{{ i + 1 }}</span> {{ s }}
        </button>
      </li>
    </ol>
    <section class="sheet pad body">
      <template v-if="draft.step === 0">
        <div class="ends">
          <div v-for="e in ends" :key="e.end">
            <h2>{{ e.title }}</h2>
            <p class="quiet">{{ e.means }}</p>
            <p v-if="feed && e.end === 'source'" class="mono">{{ draft.source }}</p>
            <p v-else-if="e.list?.length === 0">No {{ e.end }} yet.</p>
            <ElSelect v-else v-model="draft[e.end]" :placeholder="`a ${e.end}`" :aria-label="e.label"
              ><ElOption v-for="c in e.list" :key="c.name" :label="`${c.name} (${c.kind})`" :value="c.name"
            /></ElSelect>
            <ElButton v-if="!feed || e.end === 'warehouse'" @click="adding = e.side">Add a {{ e.end }}…</ElButton>
          </div>
          <div v-if="!feed">
            <h2>Name</h2>
            <p class="quiet">How the feed is called.</p>
            <ElInput v-model="draft.name" placeholder="after both, when empty" aria-label="Name of the feed" />
          </div>
        </div>
      </template>
      <ChooseTables
        v-else-if="draft.step === 1"
        :key="draft.source"
        v-model:chosen="draft.chosen"
        v-model:later="draft.later"
        :source="draft.source" />
      <template v-else-if="draft.step === 2">
        <p v-for="(f, i) in proposed?.findings" :key="i">
          <strong>{{ f.level }}</strong> {{ f.what }} <span class="quiet">{{ f.remedy }}</span>
        </p>
        <div v-if="tables.length > 5" class="many">
          <ElInput v-model="search" clearable placeholder="Search tables" aria-label="Search tables" class="find" />
          <span class="quiet"
            >{{
              search ? `${plural(found.length, 'table')} of ${count(tables.length)}` : plural(tables.length, 'table')
            }}{{ found.length > mostShown ? `, the first ${mostShown} are shown` : '' }}</span
          >
          <span class="grow"></span>
          <span>All of these:</span>
          <OneOf
            model-value=""
            class="pick"
            placeholder="find by"
            aria-label="Find changes of all by"
            @change="(v: string) => setAll('find', v)"
            :words="finds" />
          <OneOf
            model-value=""
            class="pick"
            placeholder="keep"
            aria-label="Keep all as"
            @change="(v: string) => setAll('keep', v)"
            :words="keeps" />
        </div>
        <div class="scroll">
          <table class="rows">
            <thead>
              <tr>
                <th scope="col">Table</th>
                <th v-if="about.size" class="n" scope="col">Rows</th>
                <th scope="col">Find changes by</th>
                <th scope="col">Keep</th>
                <th scope="col">Columns and rows</th>
                <th scope="col"><span class="visually-hidden">Shape</span></th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="t in found.slice(0, mostShown)" :key="t.index">
                <td>
                  <span class="mono">{{ t.table }}</span>
                  <div class="quiet why">{{ t.pattern ? 'Each table that comes.' : about.get(t.table)?.why }}</div>
                </td>
                <td v-if="about.size" class="n">
                  {{ (about.get(t.table)?.rows ?? -1) < 0 ? '–' : count(about.get(t.table)!.rows) }}
                </td>
                <td>
                  <OneOf
                    :model-value="t.find"
                    class="pick"
                    :aria-label="`Find changes of ${t.table} by`"
                    @change="(v: string) => set(t.index, 'find', v)"
                    :words="finds" />
                </td>
                <td>
                  <OneOf
                    :model-value="t.keep"
                    class="pick"
                    :aria-label="`Keep ${t.table} as`"
                    @change="(v: string) => set(t.index, 'keep', v)"
                    :words="keeps" />
                </td>
                <td class="sentence">
                  <div v-for="c in columnsSaid(t)" :key="c" class="mono small">{{ c }}</div>
                  <div v-if="t.only.length" class="mono small">only the columns {{ t.only.join(', ') }}</div>
                  <div v-if="t.where" class="mono small">only {{ t.where }}</div>
                  <div v-for="c in about.get(t.table)?.private ?? []" :key="c.column" class="quiet small">
                    {{ c.column }} looks like {{ c.looks }}
                  </div>
                </td>
                <td>
                  <div class="acts-of">
                    <ElButton
                      v-if="!t.pattern && !t.query"
                      size="small"
                      @click="((shaped = t.index), (shaping = true))"
                      >Shape…</ElButton
                    >
                    <ElButton size="small" :aria-label="`Settings of ${t.table}`" @click="settings(t.index)"
                      >Settings…</ElButton
                    >
                  </div>
                </td>
              </tr>
            </tbody>
          </table>
        </div>
        <p class="more">
          <ElButton
            size="small"
            text
            @click="add({ table: 'public.*', find: follows ? 'log' : 'whole', keep: follows ? 'latest' : 'replace' })"
            >Add tables by a pattern…</ElButton
          >
          <ElButton size="small" text @click="add({ query: '', name: '', key: [], find: 'whole', keep: 'replace' })"
            >Add a query as a table…</ElButton
          >
          <ElButton size="small" text @click="settings('feed')">Settings of the feed…</ElButton>
        </p>
      </template>
      <template v-else-if="draft.step === 3">
        <p v-if="busy === 'check'" class="quiet" role="status">Asking the source and the warehouse…</p>
        <template v-if="applied">
          <template v-if="feed">
            <p v-if="!applied.changes.length">The feed is as the file has it already.</p>
            <ChangesList v-else :changes="applied.changes" />
          </template>
          <p>
            <strong v-if="blocked">Something is in the way.</strong
            ><strong v-else-if="applied.findings.length">Nothing is in the way.</strong
            ><strong v-else>Nothing is in the way, and nothing to note.</strong>
          </p>
          <FindingsList :findings="applied.findings" :file="draft.file" @found="(now) => (applied!.findings = now)" />
          <ElButton :loading="busy === 'check'" @click="check">Check again</ElButton>
        </template>
      </template>
      <template v-else>
        <div class="review">
          <div>
            <h2>When it runs</h2>
            <label v-if="follows"
              >What the log tells shows within
              <ElSelect
                :model-value="schedule.freshness || 'by runs alone'"
                class="when"
                aria-label="Freshness"
                allow-create
                filterable
                @change="(v: string) => setSchedule({ freshness: v === 'by runs alone' ? '' : v })">
                <ElOption
                  v-for="v in ['continuous', '10s', '1m', '15m', '1h', 'by runs alone']"
                  :key="v"
                  :label="v"
                  :value="v" />
              </ElSelect>
            </label>
            <template v-if="others || !schedule.freshness">
              <label
                >{{ follows && schedule.freshness ? 'The other tables are read' : 'It runs' }} every
                <ElInput
                  :model-value="schedule.every"
                  class="when"
                  placeholder="15m"
                  aria-label="Every"
                  @update:model-value="
                    (v: string) => setSchedule({ every: v.trim(), ...(v.trim() ? { cron: '', zone: '' } : {}) })
                  " />
              </label>
              <label
                >or by cron
                <ElInput
                  :model-value="schedule.cron"
                  class="when mono"
                  placeholder="0 6 * * *"
                  aria-label="Cron"
                  @update:model-value="
                    (v: string) => setSchedule({ cron: v.trim(), ...(v.trim() ? { every: '' } : { zone: '' }) })
                  " />
              </label>
              <label v-if="schedule.cron"
                >in the zone
                <ElInput
                  :model-value="schedule.zone"
                  class="when"
                  placeholder="UTC"
                  aria-label="Zone"
                  @update:model-value="(v: string) => setSchedule({ zone: v.trim() })" />
              </label>
            </template>
            <ElButton size="small" text class="other" @click="settings('feed')">Settings of the feed…</ElButton>
            <h2>What it brings</h2>
            <p>
              {{ plural(tables.filter((t) => !t.pattern).length, 'table')
              }}<template v-if="proposed && !feed"
                >, about {{ count(proposed.tables.reduce((sum, t) => sum + Math.max(t.rows, 0), 0)) }} rows at
                first</template
              >.
            </p>
            <p v-if="tables.some((t) => columnsSaid(t).length)">Columns that change on their way:</p>
            <ul class="small">
              <li v-for="t in tables.filter((x) => columnsSaid(x).length)" :key="t.index">
                <span class="mono">{{ t.table }}</span
                >: {{ columnsSaid(t).join('; ') }}
              </li>
            </ul>
          </div>
          <div>
            <h2>The file, to keep</h2>
            <FileText v-model="draft.file" :rows="20" label="The feed file, in YAML" />
          </div>
        </div>
      </template>
      <TroubleBox :trouble="refused ?? (draft.step === 0 ? unlisted : undefined)" />
    </section>
    <div class="acts">
      <ElButton v-if="draft.step > 0" @click="go(draft.step - 1)">Back</ElButton>
      <span class="grow"></span>
      <template v-if="draft.step === 4">
        <ElButton v-if="feed" type="primary" :loading="busy === 'apply'" @click="start(false)">Apply</ElButton>
        <template v-else>
          <ElButton :loading="busy === 'apply'" @click="start(false)">Apply, start later</ElButton>
          <ElButton type="primary" :loading="busy === 'apply' || busy === 'start'" @click="start(true)"
            >Apply and start</ElButton
          >
        </template>
      </template>
      <ElButton
        v-else
        type="primary"
        :disabled="!ready"
        :loading="busy === 'propose' || busy === 'check'"
        @click="next"
        >Next: {{ steps[draft.step + 1]?.toLowerCase() }}</ElButton
      >
    </div>
    <ConnectionForm
      v-if="adding"
      v-model="entering"
      :side="adding"
      :kinds="kinds[adding]"
      @saved="(name) => added(adding!, name)" />
    <ShapeTable v-model="shaping" v-model:file="draft.file" :source="draft.source" :index="shaped" />
    <FeedSettings v-model="setting" v-model:file="draft.file" :source="draft.source" :of="settled" />
  </div>
</template>

<style scoped>
.steps {
  display: flex;
  gap: 6px;
  list-style: none;
  padding: 0;
  margin: 16px 0 -4px;
  flex-wrap: wrap;
}
.steps button {
  background: none;
  border: 0;
  border-bottom: 3px solid var(--line);
  padding: 6px 18px 6px 4px;
  font: inherit;
  color: var(--ink-2);
  cursor: pointer;
  min-width: 120px;
  text-align: left;
}
.steps button:disabled {
  cursor: default;
}
.steps [aria-current] button {
  color: var(--ink);
  border-color: var(--act);
  font-weight: 600;
}
.no {
  display: inline-block;
  min-width: 1.4em;
}
.body {
  min-height: 320px;
}
.ends {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(240px, 1fr));
  gap: 28px;
}
.ends .el-button {
  margin-top: 10px;
}
.why {
  white-space: normal;
  max-width: 30em;
  font-size: 12px;
}
.sentence {
  white-space: normal;
  min-width: 15em;
}
.small {
  font-size: 12px;
}
.many {
  display: flex;
  gap: 10px;
  align-items: center;
  margin-bottom: 6px;
  flex-wrap: wrap;
}
.many .grow {
  flex: 1;
}
.many .find {
  width: 240px;
}
.pick {
  width: 118px;
}
.acts-of {
  display: flex;
  gap: 4px;
}
.acts-of .el-button {
  margin: 0;
}
.more {
  margin: 8px 0 0 -8px;
}
.other {
  margin-left: -8px;
}
.when {
  width: 150px;
  display: inline-flex;
  margin-left: 6px;
}
.review {
  display: grid;
  grid-template-columns: minmax(260px, 1fr) minmax(0, 1.3fr);
  gap: 28px;
}
.review label {
  display: flex;
  align-items: center;
  justify-content: space-between;
  margin-bottom: 8px;
  max-width: 380px;
}
.review h2 {
  margin-top: 0;
}
.acts .grow {
  flex: 1;
}
.acts {
  display: flex;
  margin-top: 12px;
  gap: 8px;
}
@media (max-width: 720px) {
  .steps button {
    min-width: 0;
    padding-right: 8px;
  }
  .review {
    grid-template-columns: 1fr;
  }
}
</style>
